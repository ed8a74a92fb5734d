"""Guides as TOML text, with comments."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import tomlkit

from eager_kestrel.files.bundled import DATA
from eager_kestrel.files.toml_text import fill

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

SCHEMA_NAME = "guide.schema.json"
SCHEMA_LINE = f"#:schema ./{SCHEMA_NAME}"
"""Editors that know TOML schemas read this line."""

COMMENTS = {
    "checked": "the day you held this against the source",
    "transports": "in the order the platform prefers",
    "video.shapes": "aspect ratios it takes",
    "video.pictures": "only these sizes",
    "video.largest": "no side longer than here",
    "video.fastest": "any customary frame rate up to this",
    "video.ceiling": "the most video may be sent at",
    "video.keyframes": "exactly this, or { at_most = ..., advised = ... }",
    "video.rate_control": "constant, variable or both",
    "video.b_frames": "the most in a row",
    "audio.least": "kept even on poor lines",
    "private.key_suffix": "behind the key, nobody sees the stream",
    "unchecked": "guesses; take a key out once you have looked it up",
    "delivery.transcodes": "always, when there is capacity, or never",
}


def guide_toml(
    guide: Guide, comments: dict[str, str] | None = None, unread: Sequence[str] = ()
) -> str:
    """A guide as commented TOML; reading it back gives the same guide.

    Args:
        guide: what to write.
        comments: by dotted key, in place of or beside the usual ones.
        unread: what of its source was not understood, a line each.
    """
    said = COMMENTS | (comments or {})
    dumped = guide.model_dump(exclude_defaults=True, exclude_none=True)
    document = tomlkit.document()
    document.add(tomlkit.comment(SCHEMA_LINE.removeprefix("#").lstrip()))
    text_head = f"# Ingest guidelines of {guide.title}.\n"
    text_head += "".join(f"# Not understood, look it up: {line}\n" for line in unread)
    fill(document, {"format": guide.format, **dumped}, said)
    body = tomlkit.dumps(document)
    return SCHEMA_LINE + "\n" + text_head + body.split("\n", 1)[1]


def template(name: str, title: str, today: str) -> str:
    """The bundled template, filled in far enough to pass its own check."""
    text = (DATA / "templates" / "guide.toml").read_text(encoding="utf-8")
    return text.replace("@NAME@", name).replace("@TITLE@", title).replace("@TODAY@", today)
