"""Preset: the slowest that the machine holds; :mod:`eager_kestrel.core.show.machine` chooses it."""

from __future__ import annotations

from collections.abc import Iterator

from eager_kestrel.core.settings.setting import Because, Reason, Setting, Why

HELD = "the slowest this machine keeps up with: uses {load:.0%} of it; the limit is {share:.0%}"
KEPT_UP = Because("preset", "machine", HELD)
GAINS = Because("preset", "machine", HELD + "; worth {more:.0%} more bitrate than {usual}")
COSTS = Because(
    "preset",
    "machine",
    HELD + "; needs {more:.0%} more bitrate than {usual} for the same quality",
)


def _reasons(why: Why) -> Iterator[Reason]:
    video, machine = why.video, why.show.machine
    if video.preset is None:
        return
    factors = why.choice.choices.table.preset.get(video.codec, {})
    takes = factors.get(video.preset, 1.0)
    usual = next((name for name, factor in factors.items() if factor == 1), "")
    kind, more = KEPT_UP, None
    if usual and round(takes, 2) != 1:
        kind, more = (GAINS, 1 / takes - 1) if takes < 1 else (COSTS, takes - 1)
    yield kind(
        video.preset,
        share=machine.share,
        load=machine.load_of(video.codec, video.preset, video.pixels_per_second),
        takes=takes,
        usual=usual,
        more=more,
    )


PRESET = Setting(name="preset", reasons=_reasons)
