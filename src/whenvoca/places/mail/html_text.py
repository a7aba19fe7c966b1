"""The words of an HTML text, by lxml: nothing in it is run or fetched."""

from __future__ import annotations

import re
from typing import Any

_BLOCKS = frozenset(
    "address article blockquote dd div dl dt fieldset footer form h1 h2 h3 h4 h5 h6 header li ol p pre section "
    "table tr ul".split()
)
_UNSEEN = "//comment()|//script|//style|//head|//title|//template|//noscript"


def text_of_html(html: str) -> str:
    """One block a line, the cells of a table apart; what is quoted is marked as in plain texts."""
    from lxml import etree
    from lxml import html as parser

    try:
        tree: Any = parser.document_fromstring(html.replace("\x00", "") or "<p></p>")
    except (etree.LxmlError, ValueError):
        return ""
    for each in tree.xpath(_UNSEEN):
        if each.getparent() is None:
            return ""  # there is nothing else
        each.drop_tree()
    for each in tree.iter():
        if each.tag in ("br", "hr"):
            each.tail = f"\n{each.tail or ''}"
        elif each.tag in _BLOCKS:
            each.text, each.tail = f"\n{each.text or ''}", f"\n{each.tail or ''}"
        elif each.tag in ("td", "th"):
            each.tail = f"\t{each.tail or ''}"
    for each in tree.xpath("//blockquote[not(ancestor::blockquote)]"):
        quoted = "\n".join(f"> {line.strip()}" for line in each.text_content().split("\n") if line.strip())
        each.clear(keep_tail=True)
        each.text = f"\n{quoted}\n"
    lines = (re.sub(r"[ \r\f\v]+", " ", line) for line in tree.text_content().split("\n"))
    return re.sub(r"\n{3,}", "\n\n", "\n".join(re.sub(r" *\t *", "\t", line).strip() for line in lines)).strip()
