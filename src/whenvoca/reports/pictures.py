"""Pictures of 1280 by 800, drawn by matplotlib (the extra `pictures`)."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from whenvoca.errors import RequestFault

_SIZE_INCHES, _DPI = (12.8, 8.0), 100


def new_figure() -> Any:
    """An empty figure. Raises RequestFault if matplotlib is not installed."""
    try:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
    except ModuleNotFoundError as error:
        if (error.name or "").partition(".")[0] != "matplotlib":
            raise
        raise RequestFault("pictures need matplotlib", fix='pip install "whenvoca[pictures]"') from error
    figure = Figure(figsize=_SIZE_INCHES, dpi=_DPI, facecolor="white")
    FigureCanvasAgg(figure)
    return figure


def save_figure(figure: Any, path: Path) -> None:
    """Writes it as PNG. Raises RequestFault if the file cannot be written."""
    try:
        figure.savefig(path, format="png", metadata={"Software": None})
    except OSError as error:
        raise RequestFault(f"the picture cannot be written: {error.strerror}", where=str(path)) from error
