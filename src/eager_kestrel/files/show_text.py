"""A show as commented TOML."""

from __future__ import annotations

import tomlkit

from eager_kestrel.core.show.show import Show
from eager_kestrel.files.toml_text import fill

COMMENTS = {
    "source": "what your camera or screen gives",
    "frame_rate": "frames a second of the source",
    "motion": "still, calm, lively or hectic",
    "prefer": "smooth or sharp, where upload does not hold both",
    "audio": "voice or music",
    "safe_share": "of the line; the rest is for its ups and downs",
    "stutter": "seconds of stutter an hour that are accepted",
    "lasts": "one show",
    "cap": "of data a month",
    "picture": "to be sent, whatever looks better",
    "sent_frame_rate": "to be sent, whatever looks better",
    "days": "it begins on; runs of these days count",
    "at": "it begins; runs near it count",
    "footage": "as trial --keep named it",
    "viewers": "the slowest download among your viewers",
    "hours_a_month": "you stream, to reckon data",
    "reserves.rate": "kept back from the stream",
    "destinations.weight": "how much its quality counts beside the others'",
    "destinations.least_quality": "0 to 1; below it the destination is rather left out",
    "destinations.encode": "own, shared or either",
    "machine.share": "of the encoders' speed that may be used",
}
ALWAYS = {"format", "safe_share", "audio", "hours_a_month"}
"""Written even where they are as usual, since people want to turn them."""


def show_toml(show: Show) -> str:
    """A show as commented TOML; reading it back gives the same show."""
    said = show.model_dump(exclude_defaults=True, exclude_none=True)
    said |= show.model_dump(include=ALWAYS)
    document = tomlkit.document()
    fill(document, {key: said[key] for key in Show.model_fields if key in said}, COMMENTS)
    title = show.title or "A show"
    return f"# {title}. Plan it with: eager-kestrel plan FILE\n" + tomlkit.dumps(document)
