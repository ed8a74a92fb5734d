"""A plan in a terminal: the settings card on top, the waterfall and reasons under it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.cli.screen import grid, remark
from eager_kestrel.core.picture import frame_rate_text, picture_at
from eager_kestrel.core.plan.plan import (
    AudioSettings,
    DestinationPlan,
    Plan,
    VideoSettings,
)
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import forecasts
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import both, looks

if TYPE_CHECKING:
    from rich.console import Console
    from rich.panel import Panel

    from eager_kestrel.core.choice.what_if import Point, Sweep

CODECS = {"h264": "H.264", "hevc": "HEVC", "av1": "AV1", "aac": "AAC", "opus": "Opus", "mp3": "MP3"}
CHANNELS = {1: "mono", 2: "stereo"}
SHORT_REASONS = ("bitrate", "picture", "frame rate", "keyframes", "audio")
BAR_CELLS = 12


def show_plan(screen: Console, plan: Plan, *, why: bool = False) -> None:
    """The card on top, the budget under it, then reasons and warnings."""
    several = plan.split is not None
    for destination in plan.destinations:
        _show_destination(screen, plan, destination, why=why, brief=several and not why)
    if several:
        from eager_kestrel.cli.split_card import show_split

        show_split(screen, plan, why=why)
    if plan.feasible or plan.total_kbps > 0:
        _show_data(screen, plan, why=why)
    _show_budget(screen, plan)
    if plan.inputs.machine:
        screen.print(f"\n[dim]machine[/]  {plan.inputs.machine}", highlight=False)
    for warning in plan.warnings:
        remark(screen, warning)


def _show_destination(
    screen: Console, plan: Plan, destination: DestinationPlan, *, why: bool, brief: bool
) -> None:
    from rich.text import Text

    standing = f" ({destination.standing})" if destination.standing else ""
    title = f"{plan.inputs.title or 'Your stream'} on {destination.title}{standing}"
    video, audio = destination.video, destination.audio
    if video is None or audio is None:
        screen.print(Text(title, style="bold").append(": no settings", style="red"))
        screen.print(Text(f"  {destination.infeasible_because}\n"))
        return
    screen.print(_card(title, plan, destination, video, audio))
    if brief:
        return
    _show_reasons(screen, destination, why=why)
    if why:
        _show_beside(screen, destination)
    screen.print()


def _card(
    title: str, plan: Plan, destination: DestinationPlan, video: VideoSettings, audio: AudioSettings
) -> Panel:
    """What to type, and what bound it."""
    from rich.panel import Panel
    from rich.text import Text

    card = grid(0, 1, 0)
    rows = [
        ("picture", str(video.picture), "picture"),
        ("frame rate", f"{frame_rate_text(video.frame_rate)} a second", "frame_rate"),
        ("video bitrate", f"{both(video.bitrate_kbps)}, {video.rate_control}", "bitrate"),
        ("keyframes", f"every {video.keyframe_seconds:g} s = {video.keyframe_frames} frames",
         "keyframes"),
        ("buffer", f"{video.buffer_kbit:,.0f} kbit", "buffer"),
        ("codec", f"{CODECS[video.codec]} {video.profile}, level {video.level}, "
                  f"{video.b_frames} B-frames", "profile"),
        ("audio", f"{CODECS[audio.codec]} {audio.bitrate_kbps:g} kbit/s, "
                  f"{audio.sample_rate_hz / 1000:g} kHz, {CHANNELS[audio.channels]}", "audio"),
        ("colour", f"{video.pixel_format}, {video.colour}, {video.colour_range} range"
                   + (f", resized by {video.resize}" if video.resize else ""), "colour"),
        ("looks", f"{looks(destination.quality or 0.0)} of 100", ""),
        ("sent in all", words.sent_in_all(destination.total_kbps, plan.budget.safe_kbps), ""),
        *_odds(plan),
    ]  # fmt: skip
    if video.preset is not None:
        rows.insert(6, ("encoder" if video.own_encoder else "preset", video.preset, "preset"))
    if video.peak_kbps is not None:
        rows.insert(3, ("peak", both(video.peak_kbps), "bitrate"))
    card.add_row("", "", Text("bound by", style="dim"))
    for name, value, key in rows:
        bound = destination.bound_by.get(key, "")
        card.add_row(Text(name, style="dim"), Text(value, style="bold"), Text(bound, style="cyan"))
    asked = plan.inputs
    source = f"{picture_at(asked.source, asked.frame_rate)}, {asked.motion}"
    return Panel(
        card, title=Text(title), title_align="left", border_style="green", padding=(0, 1),
        subtitle=f"from a source of {source}", subtitle_align="right",
    )  # fmt: skip


def _odds(plan: Plan) -> list[tuple[str, str, str]]:
    """How likely it stutters, where the runs say."""
    odds = plan.odds
    if odds is None:
        return []
    said = forecasts.chance_line(odds.chance, odds.low, odds.high, odds.seconds, odds.runs)
    return [("late frames", said, "")]


def _show_reasons(screen: Console, destination: DestinationPlan, *, why: bool) -> None:
    """Reasons, what more would give, and where to step down to."""
    from rich.text import Text

    reasons = grid(0, 1)
    for reason in destination.reasons:
        if why or reason.about in SHORT_REASONS:
            reasons.add_row(
                Text(reason.about, style="cyan"), Text(f"{reason.value}: {reason.text}")
            )
    screen.print(reasons)
    for offer in destination.offers:
        screen.print(Text("↑ ", style="green").append(offer.text, style="default"))
    if destination.steps_down:
        steps = [*destination.steps_down] if why else destination.steps_down[:3]
        said = words.struggling([step.video.words for step in steps])
        screen.print(Text("↓ ", style="yellow").append(said, "default"))
    if why and destination.runners_up:
        others = [(o.picture, o.frame_rate, o.quality) for o in destination.runners_up]
        screen.print(words.next_best(destination.quality or 0.0, others))


def _show_beside(screen: Console, destination: DestinationPlan) -> None:
    """How far to adapt and when to come back."""
    from rich.text import Text

    lines = grid(0, 1)
    adaptive, back = destination.adaptive, destination.reconnect
    if adaptive is not None:
        said = words.adapting(adaptive.floor_kbps, adaptive.ceiling_kbps)
        lines.add_row(Text("adapting", style="cyan"), said)
    said = words.reconnecting(
        back.first_seconds, back.factor, back.longest_seconds, back.give_up_seconds
    )
    lines.add_row(Text("reconnect", style="cyan"), said)
    screen.print(lines)


def _show_data(screen: Console, plan: Plan, *, why: bool) -> None:
    """What the stream sends in an hour and a month, and what a local copy takes."""
    from rich.text import Text

    data, copy = plan.data, plan.local_copy
    lines = grid(0, 1)
    said = words.data(data.gb_per_hour, data.gb_per_month, data.hours_a_month)
    lines.add_row(Text("data", style="cyan"), said)
    if why or copy.free_hours is not None:
        room = ""
        if copy.free_gb is not None and copy.free_hours is not None:
            room = words.room_left(copy.free_gb, copy.free_hours)
        said = words.local_copy(
            copy.picture, copy.frame_rate, f"{CODECS[copy.codec]} {both(copy.bitrate_kbps)}",
            copy.keyframe_frames, copy.audio_kbps, copy.gb_per_hour, copy.sent_gb_per_hour, room,
        )  # fmt: skip
        lines.add_row(Text("local copy", style="cyan"), said)
    screen.print(lines)
    screen.print()


def _show_budget(screen: Console, plan: Plan) -> None:
    from rich.text import Text

    steps = [*plan.budget.steps]
    if len(plan.destinations) == 1:
        steps += plan.destinations[0].budget_steps
    typical = max(plan.uplink.typical_kbps, 1.0)
    safe = len(plan.budget.steps) - 1
    table = grid(0, 0, 0, 1)
    for number, step in enumerate(steps):
        cells = round(BAR_CELLS * step.after_kbps / typical)
        bar = Text("█" * cells, style="green") + Text("·" * (BAR_CELLS - cells), style="dim")
        end = "safe rate" if number == safe else "left for video" if step.name == "audio" else ""
        amount = Text(
            Bitrate.from_kbps(step.after_kbps).in_kbps(),
            style="bold" if end else "",
            justify="right",
        )
        said = f"{step.why} → {end}" if end else step.why
        name = step.name.removeprefix("reserve: ")
        table.add_row(Text(_shortened(name), style="dim"), amount, bar, Text(said, style="dim"))
    screen.print("[bold]Budget[/]")
    screen.print(table)
    screen.print()


def _shortened(name: str, most: int = 22) -> str:
    return name if len(name) <= most else name[: most - 1].rstrip() + "…"


def show_sweep(screen: Console, found: Sweep) -> None:
    """A line wherever the choice of picture or frame rate changes, with the range it holds for."""
    _show_series(screen, found)
    for other in found.beside:
        points = tuple(
            point.model_copy(update={"chosen": option})
            for point, option in zip(found.points, other.chosen, strict=True)
        )
        _show_series(
            screen, found.model_copy(update={"platform": other.platform, "points": points})
        )


def _show_series(screen: Console, found: Sweep) -> None:
    from rich.table import Table

    if found.beside:
        screen.print(f"[bold]{found.platform}[/]")

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in (found.over, "picture", "video", "looks"):
        table.add_column(heading, justify="left" if heading == "picture" else "right")
    points = list(found.points)
    start = 0
    for index in range(1, len(points) + 1):
        if index < len(points) and _choice(points[index]) == _choice(points[start]):
            continue
        first, last = points[start], points[index - 1]
        span = first.at if first.at == last.at else f"{first.at} to {last.at}"
        if first.chosen is None or last.chosen is None:
            table.add_row(span, "[dim]no settings[/]", "-", "-")
        else:
            table.add_row(
                span,
                f"[bold]{_choice(first)}[/]",
                _ends(first.chosen.bitrate_kbps, last.chosen.bitrate_kbps, "{:,.0f}") + " kbit/s",
                _looks(first.chosen.quality, last.chosen.quality),
            )
        start = index
    screen.print(table)


def _choice(point: Point) -> str:
    chosen = point.chosen
    return "" if chosen is None else picture_at(chosen.picture, chosen.frame_rate)


def _looks(first: float, last: float) -> str:
    begin, end = looks(first), looks(last)
    return begin if begin == end else f"{begin} to {end}"


def _ends(first: float, last: float, form: str) -> str:
    begin, end = form.format(first), form.format(last)
    return begin if begin == end else f"{begin} to {end}"
