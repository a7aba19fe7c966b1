"""Files of the workspace that workflows write for others to read, and how that is taken back."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import THE_FILES, Effect, Receipt
from whenvoca.errors import RowFault
from whenvoca.places.files import hash_bytes


def publish(
    call: StepCall,
    name: str,
    data: bytes,
    holds: str,
    *,
    is_ours: Callable[[bytes], bool],
    varying: Callable[[bytes], bytes] = lambda data: data,
) -> Iterator[Effect]:
    """The effect that writes a file in UTF-8, if it is not so already; ``holds`` is what stands in it, in words, and
    ``varying`` leaves out of it what differs each time. Raises RowFault where somebody else's file stands there."""
    old = call.stage.file_of_workspace(name)
    if old is not None and not is_ours(old):
        raise RowFault(f"{name} is there already and was not published by a workflow", fix="publish to another file")
    if old is None or varying(old) != varying(data):
        yield Effect(
            verb="publish file",
            place=THE_FILES,
            target=name,
            after={"file": name, "hash": hash_bytes(data), "holds": holds},
            kept="" if old is None else old.decode("utf-8"),
            version="" if old is None else hash_bytes(old),
            stored=data,
        )


def _undo(stage: Any, effect: Effect, left: list[str]) -> Inverse:
    now, told = stage.file_of_workspace(effect.target), effect.after or {}
    if now is None:
        left.append(f"{effect.target} is no longer there")
    elif hash_bytes(now) != told["hash"]:
        left.append(f"{effect.target} was changed since and is left as it is")
    else:
        yield Effect(
            verb="put back file",
            place=THE_FILES,
            target=effect.target,
            before={**told, "text": now.decode("utf-8")},
            version=told["hash"],
            kept=effect.kept,
        )


def _again(stage: Any, effect: Effect, left: list[str]) -> Inverse:
    """Publishes what was put back once more, where it stands as it was put back."""
    now, told = stage.file_of_workspace(effect.target), dict(effect.before or {})
    if ("" if now is None else now.decode("utf-8", "replace")) != effect.kept:
        left.append(f"{effect.target} was changed since and is left as it is")
        return
    text = told.pop("text").encode()
    version = "" if now is None else hash_bytes(now)
    yield Effect(
        verb="publish file",
        place=THE_FILES,
        target=effect.target,
        after=told,
        kept=effect.kept,
        version=version,
        stored=text,
    )


def _find_done(stage: Any, effect: Effect) -> tuple[Effect, Receipt] | None:
    now = stage.file_of_workspace(effect.target)
    is_done = now is not None and hash_bytes(now) == (effect.after or {})["hash"]
    return (effect, Receipt("", effect.target)) if is_done else None


def _holds(effect: Effect) -> str:
    return str((effect.after or {}).get("holds", ""))


PUBLISH_EFFECT = EffectKind(
    verb="publish file",
    line=lambda effect: f"{effect.target} published with {_holds(effect)}",
    target=lambda effect: effect.target,
    detail=_holds,
    invert=_undo,
    find_done=_find_done,
    inverses=(
        EffectKind(
            verb="put back file",
            line=lambda effect: f"{effect.target} {'as it was' if effect.kept else 'removed'}",
            target=lambda effect: effect.target,
            detail=lambda effect: "as it was before" if effect.kept else "removed",
            invert=_again,
        ),
    ),
)
