"""What-ifs and forecasts as blocks: sweeps, comparisons, the upload a resolution needs."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby
from typing import TYPE_CHECKING

from eager_kestrel.core.resolution import resolution_at
from eager_kestrel.core.words import plans as words, runs as run_words
from eager_kestrel.core.words.numbers import kbit, looks, mbit, observed, rate, some_seconds
from eager_kestrel.report.blocks import Block, Cell, Heading, Note, Rows, Styled, Table, named

if TYPE_CHECKING:
    from eager_kestrel.core.choice.scored import Option
    from eager_kestrel.core.choice.what_if import Comparison, Need, Needs, Sweep
    from eager_kestrel.core.forecast.forecast import Forecast
    from eager_kestrel.core.stutter import StutterSeen

FEW = 2
"""Answers of ``need`` up to which each is written out as well."""


def sweep_blocks(found: Sweep) -> Iterator[Block]:
    """A row wherever the choice of resolution or frame rate changes, with its range."""
    series: list[tuple[str, list[Option | None]]] = [
        (found.platform, [point.chosen for point in found.points])
    ]
    series += [(other.platform, list(other.chosen)) for other in found.beside]
    at = [point.at for point in found.points]
    for platform, chosen in series:
        if found.beside:
            yield Heading(platform)
        rows = []
        for choice, group in groupby(zip(at, chosen, strict=True), lambda point: _choice(point[1])):
            ends = [*group]
            (first, begin), (last, end) = ends[0], ends[-1]
            span = _span(first, last)
            if begin is None or end is None:
                rows.append((span, Styled("no settings", "dim"), "-", "-"))
                continue
            rates = _span(f"{begin.bitrate_kbps:,.0f}", f"{end.bitrate_kbps:,.0f}")
            quality = _span(looks(begin.quality), looks(end.quality))
            rows.append((span, Styled(choice, "strong"), f"{rates} kbit/s", quality))
        yield Table((f">{found.varied}", "resolution", ">video", ">quality"), tuple(rows))


def _choice(option: Option | None) -> str:
    return "" if option is None else resolution_at(option.resolution, option.frame_rate)


def _span(first: str, last: str) -> str:
    return first if first == last else f"{first} to {last}"


def comparison_blocks(found: Comparison) -> Iterator[Block]:
    """A column for each candidate, the planned one marked."""
    finalists = found.finalists
    names = [resolution_at(f.resolution, f.frame_rate) for f in finalists]
    planned = [" (planned)" if f.chosen else "" for f in finalists]
    rows = {
        "video bitrate": [kbit(f.bitrate_kbps) for f in finalists],
        "quality": [looks(f.quality) for f in finalists],
        "smoothness": [f"{f.smoothness:.0%}" for f in finalists],
        "limited by": [str(f.limited_by) for f in finalists],
        "total": [kbit(f.total_kbps) for f in finalists],
        "needs an upload of": [rate(f.upload_kbps) for f in finalists],
        "cannot be sent": [f.refused for f in finalists],
    }
    headings = ("", *(name + mark for name, mark in zip(names, planned, strict=True)))
    yield Table(
        headings,
        tuple((Styled(name, "dim"), *cells) for name, cells in rows.items() if any(cells)),
    )


def need_blocks(found: Needs) -> Iterator[Block]:
    """A table for each platform, and a few answers in words as well."""
    where = [f"{n.platform}:{n.tier}" if n.tier else n.platform for n in found.needs]
    for place in dict.fromkeys(where):
        if len(set(where)) > 1:
            yield Heading(place)
        yield Table(
            (
                "resolution",
                "among the\nbest, Mbit/s",
                "video,\nkbit/s",
                ">good\nfrom",
                ">no gain\nbeyond",
                "better then",
            ),
            tuple(_need_row(n) for n, at in zip(found.needs, where, strict=True) if at == place),
        )
    for answer in found.needs:
        if len(found.needs) <= FEW and answer.possible:
            yield Note(_need_said(answer))


def _need_row(answer: Need) -> tuple[Cell, ...]:
    name = resolution_at(answer.resolution, answer.fps)
    if not answer.possible or answer.full_kbps is None:
        return (Styled(name, "dim"), Styled("not taken", "dim"), "", "", "", "")
    good = "never" if answer.good_kbps is None else mbit(answer.good_kbps)
    full = mbit(answer.full_kbps)
    then = Styled(_choice(answer.then or answer.better), "dim")
    if answer.from_kbps is None:
        faint = (Styled(text, "dim") for text in (name, "never", "", good, full))
        return (*faint, then)
    last, video = answer.until_gives or answer.full_gives, ""
    if answer.from_gives is not None and last is not None:
        video = words.video_span(answer.from_gives.bitrate_kbps, last.bitrate_kbps)
    best = Styled(words.span(answer.from_kbps, answer.until_kbps), "strong")
    return (name, best, video, good, full, then)


def _need_said(answer: Need) -> str:
    def at(upload: float | None, option: Option | None) -> words.SettingsAt | None:
        if upload is None or option is None:
            return None
        return words.SettingsAt(upload, option.text, option.bitrate_kbps, option.quality)

    full = at(answer.full_kbps, answer.full_gives)
    assert full is not None
    return words.in_words(
        resolution_at(answer.resolution, answer.fps),
        at(answer.from_kbps, answer.from_gives),
        at(answer.until_kbps, answer.then),
        answer.good_kbps,
        full,
        at(answer.full_kbps, answer.better),
    )


# Forecasts


def forecast_blocks(found: Forecast) -> Iterator[Block]:
    """The verdict, the rate, each fallback, each hour, and what is not known."""
    seen = found.stutter
    rows = [
        ("sent", run_words.sent(found.text, found.total_kbps, found.reserved_kbps)),
        ("upload", found.budget),
        ("observed", run_words.observed_row(found.evidence, seen)),
    ]
    if seen is not None:
        rows += [
            ("stutter", run_words.hourly(seen)),
            ("in the show", run_words.in_the_show(seen, found.lasts_seconds)),
            ("longest queue", f"{seen.worst_queue_seconds:.1f} s"),
        ]
    if found.max_kbps is not None:
        limit = some_seconds(found.limit_seconds_per_hour)
        rows.append(
            ("highest rate", f"{kbit(found.max_kbps)} of such frames stay within {limit} an hour")
        )
    good = seen is not None and seen.within(found.limit_seconds_per_hour)
    yield Note(found.verdict, "strong")
    title = "Forecast, of a simulated connection" if found.practice else "Forecast"
    yield Rows(named(rows), title=title, state="good" if good else "mind")
    yield forecast_steps(found)
    if found.by_hour:
        rows_by_hour = []
        for at in found.by_hour:
            read = at.imported_kbps is not None
            most = at.imported_kbps if read else at.max_kbps
            seconds = "readings" if read else observed(at.observed_seconds)
            highest = "-" if most is None else f"{most:,.0f}"
            rows_by_hour.append((f"{at.hour:02d}:00", seconds, *_rates(at.stutter), highest))
        headings = ("hour", ">observed", ">stutter an hour", "between", ">highest kbit/s")
        yield Table(headings, tuple(rows_by_hour))
    if found.standstills is not None:
        yield Note(found.standstills, "mind", "!")
    for line in found.unknown:
        yield Note(line, "dim")


def forecast_steps(found: Forecast) -> Table:
    """The plan and its fallbacks, the first within the limit marked."""
    limit = f"within {some_seconds(found.limit_seconds_per_hour)}/h"
    first = next((step for step in found.steps if step.within), None)
    rows = []
    for step in found.steps:
        mark = "first" if step is first else "yes" if step.within else "no"
        cells = (step.settings, f"{step.total_kbps:,.0f}", *_rates(step.stutter), mark)
        rows.append(tuple(Styled(cell, "strong" if step is first else "") for cell in cells))
    return Table(("settings", ">kbit/s", ">stutter an hour", "between", limit), tuple(rows))


def _rates(seen: StutterSeen | None) -> tuple[str, str]:
    if seen is None:
        return "not known", ""
    if seen.high_seconds_per_hour < 0.05:
        return "none", ""
    low, high = seen.low_seconds_per_hour, seen.high_seconds_per_hour
    return some_seconds(seen.seconds_per_hour), f"{some_seconds(low)} to {some_seconds(high)}"
