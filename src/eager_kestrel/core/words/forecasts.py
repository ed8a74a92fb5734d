"""What is said of a forecast: chances as people count them, and what is not known."""

from __future__ import annotations

from eager_kestrel.core.words.numbers import duration, kbit

FEWEST = 1e-4
NEARLY_ALL = 0.95
PAIRS = ((2, 5), (1, 2), (3, 5), (2, 3), (3, 4), (4, 5), (9, 10))
"""Shares people say as so many of so few, from the smallest."""


def one_in(chance: float) -> str:
    """``1 in 9``: a chance as people count it."""
    if chance < FEWEST:
        return "hardly any"
    if chance >= NEARLY_ALL:
        return "nearly all"
    if chance >= 0.37:
        part, whole = min(PAIRS, key=lambda pair: abs(pair[0] / pair[1] - chance))
        return f"{part} in {whole}"
    count = 1 / chance
    if count < 10:
        return f"1 in {count:.0f}"
    digits = 10 ** (len(str(int(count))) - 2)
    return f"1 in {round(count / digits) * digits:,}"


def within(low: float, high: float) -> str:
    """``1 in 40 to 1 in 3``: an interval of chances."""
    first, last = one_in(low), one_in(high)
    return first if first == last else f"{first} to {last}"


def stretches(seconds: float) -> str:
    """What is counted: hours, or stretches of another length."""
    return "hours" if seconds == 3600 else f"stretches of {duration(seconds)}"


def verdict(
    chance: float,
    low: float,
    high: float,
    seconds: float,
    better: tuple[str, float] | None,
    *,
    own: bool,
    goal: float,
) -> str:
    """How likely it stutters, and what does better.

    Args:
        chance: of a late frame.
        low: end of its interval.
        high: the other.
        seconds: of sending.
        better: settings that meet the goal, with their chance; None when none do.
        own: whether those are the plan's own.
        goal: the chance that is wanted.
    """
    count = one_in(chance)
    about = "" if chance < FEWEST or chance >= NEARLY_ALL else "about "
    said = f"Late frames in {about}{count} {stretches(seconds)}"
    said += f" ({within(low, high)} nine times in ten)" if one_in(low) != one_in(high) else ""
    if own:
        return f"{said}; the goal was {one_in(goal)}."
    if better is None:
        return f"{said}; none of the steps down comes under {one_in(goal)}."
    return f"{said}. At {better[0]}: {one_in(better[1])}."


def viewers(seconds: float) -> str:
    """What viewers see of dips of which 19 in 20 last no longer.

    Args:
        seconds: the length; 0 when no frame was late.
    """
    if seconds <= 0:
        return "nothing"
    if seconds <= 1:
        return "a short stutter that most players hide"
    still = f"the picture stands still for up to {duration(seconds)}"
    if seconds <= 4:
        return f"{still}; a player with that much in hand hides it"
    return f"{still}, or frames are dropped for so long"


def rests_on(runs: int, seconds: float, more: int | None, width: float) -> str:
    """What it rests on, and what would make it surer."""
    said = f"rests on {runs} runs, which watched the line for {duration(seconds)} in all"
    if width < 0.005:
        return said
    if more is None:
        return f"{said}; runs of this length alone will not halve the interval, longer ones would"
    return f"{said}; about {more:,} more at that time that show the same would halve the interval"


def failed(count: int) -> str:
    """Runs that found the line or the far end down."""
    return f"{count} runs that failed are not counted: whether the line was down is not known"


def others(count: int) -> str:
    """Other kinds of runs."""
    return f"{count} imported readings or practice runs say nothing of dips and are not counted"


def risk_step(share: float, risk: float, seconds: float, runs: int) -> str:
    """Why a share of typical is what it is when a risk was asked for."""
    return (
        f"{share:.0%} of typical: the most for which fewer than {one_in(risk)} "
        f"{stretches(seconds)} have a late frame, by the cautious end of the forecast from "
        f"{runs} runs"
    )


def risk_unknown(risk: float, share: float, why: str) -> str:
    """A risk that cannot be promised; ``why`` as the next ones give it."""
    return f"{one_in(risk)} cannot be promised: {why}; planned with a share of {share:.0%} instead"


def too_few(runs: int, more: int | None) -> str:
    """There are runs, but not enough."""
    if more is None:
        return f"{runs} short runs are too few, and no number of them will do; measure for longer"
    return f"{runs} runs are too few; about {more:,} more that show the same would do"


NO_RUNS = "no two runs of a real line to forecast from"


def chance_line(chance: float, low: float, high: float, seconds: float, runs: int) -> str:
    """The chance beside a card, in one line."""
    between = f" ({within(low, high)})" if low < high else ""
    return f"{one_in(chance)} {stretches(seconds)}{between}, from {runs} runs"


def frames_of(name: str, planned: str) -> str:
    """What is sent, of a recording."""
    return f"the frames of {name} (planned: {planned})"


def sent(said: str, total_kbps: float, needs_kbps: float, reserved_kbps: float) -> str:
    """What goes out, and what an even line has to carry for it."""
    swings = needs_kbps > total_kbps * 1.001
    needs = f"; as it swings, it needs {kbit(needs_kbps)}" if swings else ""
    beside = f"; {kbit(reserved_kbps)} are in use beside it" if reserved_kbps else ""
    return f"{said}; {kbit(total_kbps)} in all{needs}{beside}"


def chance_of(chance: float, low: float, high: float, seconds: float) -> str:
    """``12 % of hours have a late frame (90 %: 1 % to 40 %)``."""
    between = f" (nine times in ten {_percent(low)} to {_percent(high)})" if low < high else ""
    return f"{_percent(chance)} of {stretches(seconds)} have a late frame{between}"


def late_frames(mean: float, low: float, high: float) -> str:
    """Late frames an hour."""
    if high <= 0:
        return f"{mean:,.1f} an hour on average; none in 19 hours of 20" if mean else "none"
    return f"{mean:,.0f} an hour on average; {low:,.0f} to {high:,.0f} in 9 of 10 hours"


def usually(typical: float, at_worst: float) -> str:
    """A length of time, usually and at worst."""
    return f"{duration(typical)} typically, {duration(at_worst)} in 1 of 20"


def _percent(chance: float) -> str:
    """``12 %``, with one digit that says something."""
    percent = 100 * chance
    if percent and percent < 0.1:
        return "less than 0.1 %"
    return f"{percent:.0f} %" if percent >= 1 or not percent else f"{percent:.1f} %"
