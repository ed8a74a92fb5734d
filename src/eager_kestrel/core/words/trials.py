"""What is said of a trial of somebody's own footage."""

from __future__ import annotations

from eager_kestrel.core.words.numbers import kbit, looks


def basis(clip: str, encodes: int, off_by: float) -> str:
    """Where a plan's quality comes from."""
    return f"measured on {clip}: {encodes} encodes, off by {100 * off_by:.1f} of 100"


def going(done: int, total: int, what: str, look: float, best: str) -> str:
    """How far a trial is, and the hull so far."""
    return f"{done} of {total}: {what}: {looks(look)}; best for its bitrate so far: {best}"


def chosen(kbps: float, first: str, look: float, others: list[tuple[str, float]]) -> str:
    """What looks best at one bitrate."""
    rest = "; ".join(f"{name} {looks(worse)}" for name, worse in others)
    return f"at {kbit(kbps)} {first} looks best: {looks(look)}" + (f" ({rest})" if rest else "")


def best(parts: list[tuple[str, float, float]]) -> str:
    """Which picture is best at which bitrate."""
    said = [f"{name} from {kbit(first)} to {kbit(last)}" for name, first, last in parts]
    return "best by bitrate: " + ", ".join(said)


def one_more(kbps: float, gain: float) -> str:
    """What one more Mbit/s buys."""
    if 100 * gain < 0.5:
        return f"one more Mbit/s than {kbit(kbps)} buys nothing anybody sees"
    return f"one more Mbit/s than {kbit(kbps)} buys {100 * gain:.0f} of 100"


def kind(said: str, behaves: str) -> str:
    """Whether the kind of motion was guessed right."""
    if said == behaves:
        return f"you said {said}, and it behaves like that"
    return f"you said {said}; it behaves like {behaves}"


def missed(off_by: float) -> str:
    """How far the fitted model is from what was measured."""
    return f"the model fitted to it is off by {100 * off_by:.1f} of 100"


def metric(*, vmaf: bool) -> str:
    """What looks were taken from."""
    return "VMAF" if vmaf else "XPSNR and SSIM; for VMAF install eager-kestrel[vmaf]"


def agreed(pairs: int, of: int) -> str:
    """How far a person's eyes and the model agree."""
    return f"you and the model agree on {pairs} of {of} pairs"
