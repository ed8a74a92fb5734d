"""Audio: codec, bitrate, sample rate and channels."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.limits import AUDIO_SHARE
from eager_kestrel.core.codecs import AUDIO_CODECS
from eager_kestrel.core.settings import setting
from eager_kestrel.core.settings.bitrate import LEAST_SECONDS, MEASURED_SLACK
from eager_kestrel.core.settings.values import AudioSettings, Settings
from eager_kestrel.core.words.numbers import kbit

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.show.show import Show

MONO_KBPS = 64.0
"""At or below this, voice sounds better in one channel than in two."""
OFFSET_MS = 150.0
"""Ahead or behind by more than this is seen by everybody (ITU-R BT.1359 has 125 to 185 ms)."""
PLANNED_APART = 0.15
"""Relative: encoders of audio vary."""


def audio_settings(guide: Guide, show: Show, kbps: float) -> AudioSettings:
    """The full audio settings at a bitrate, which the joint choice leaves for it."""
    rules, wish = guide.audio, guide.audio.recommended.channels
    channels = wish if wish in rules.channels else max(rules.channels)
    if show.audio == "voice" and kbps <= MONO_KBPS:
        channels = min(rules.channels)
    return AudioSettings(
        codec=rules.codecs[0],
        bitrate_kbps=kbps,
        sample_rate_hz=rules.sample_rate_hz,
        channels=channels,
    )


def _codec(found: setting.Held, guide: Guide) -> setting.Rules:
    """Of a recording also whether there is any audio, of a codec that guides can speak of."""
    codec, taken, seen = found.settings.audio.codec, guide.audio.codecs, found.recording
    if codec is not None:
        yield setting.one_of("audio.codecs", codec, taken)
    if seen is not None and seen.audio is None:
        yield setting.held("audio", False, "none", taken[0], do="send audio")
    elif seen is not None and seen.audio is not None and seen.audio.codec not in AUDIO_CODECS:
        do = f"set {taken[0]}"
        yield setting.held("audio.codecs", False, seen.audio.codec, " or ".join(taken), do=do)


def _bitrate(found: setting.Held, guide: Guide) -> setting.Rules:
    rate, rules = found.settings.audio.bitrate, guide.audio
    if rate is not None:
        slack = 0.0 if found.recording is None else MEASURED_SLACK
        low, high = rules.min_bitrate.kbps, rules.max_bitrate.kbps
        yield setting.held(
            "audio.min_bitrate" if rate < rules.min_bitrate else "audio.max_bitrate",
            low * (1 - slack) <= rate.kbps <= high * (1 + slack),
            rate.in_kbps(),
            f"{low:g} to {high:g} kbit/s",
        )


def _sample_rate(found: setting.Held, guide: Guide) -> setting.Rules:
    hz, taken = found.settings.audio.sample_rate_hz, guide.audio.sample_rates
    if hz is not None:
        wish = guide.audio.recommended.sample_rate
        yield setting.one_of("audio.sample_rates", hz, taken)
        yield from setting.recommended("audio.recommended.sample_rate", hz, wish, taken)


def _channels(found: setting.Held, guide: Guide) -> setting.Rules:
    number, taken = found.settings.audio.channels, guide.audio.channels
    if number is not None:
        yield setting.one_of("audio.channels", number, taken)
        wish = guide.audio.recommended.channels
        yield from setting.recommended("audio.recommended.channels", number, wish, taken)


def _always(recording: Recording) -> setting.Rules:
    if recording.audio is not None:
        offset = recording.audio.offset_ms
        yield setting.held(
            "audio offset",
            abs(offset) <= OFFSET_MS,
            f"{offset:+.0f} ms",
            f"within {OFFSET_MS:g} ms",
            worse="caution",
            do="delay the one that is early",
        )


def _as_planned(recording: Recording, planned: setting.PlanSettings) -> setting.Rules:
    seen, audio = recording.audio, planned.audio
    if seen is None:
        yield setting.held("audio", False, "none", audio.codec, do="send audio")
        return
    same = seen.codec == audio.codec
    yield setting.held("audio codec", same, seen.codec, audio.codec, do=f"set {audio.codec}")
    wanted = kbit(audio.bitrate_kbps)
    if recording.seconds >= LEAST_SECONDS:
        near = abs(seen.average_kbps / audio.bitrate_kbps - 1) <= PLANNED_APART
        shown, do = kbit(seen.average_kbps), f"set {wanted}"
        yield setting.held("audio bitrate", near, shown, wanted, worse="caution", do=do)
    for rule, found, value in (
        ("sample rate", f"{seen.sample_rate_hz:,} Hz", f"{audio.sample_rate_hz:,} Hz"),
        ("channels", f"{seen.channels}", f"{audio.channels}"),
    ):
        yield setting.held(rule, found == value, found, value, worse="caution", do=f"set {value}")


TAKEN = "{platform:verb|take} {min_kbps:g} to {max_kbps:g} kbit/s"
RECOMMENDED = setting.Because("audio", "guide", "{platform:verb|recommend} {kbps:g} kbit/s")
AT_AN_END = setting.Because("audio", "guide", TAKEN)
SHARED = setting.Because(
    "audio",
    "share of the total",
    "about {share:.0%} of the total, so that video gets the rest; " + TAKEN,
)
VIEWERS = setting.Because(
    "audio", "viewers", "about {share:.0%} of what its slowest viewers receive; " + TAKEN
)


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    kbps, rules, platform = why.audio.bitrate_kbps, why.guide.audio, why.guide.title
    least, most, wish = rules.min_bitrate.kbps, rules.max_bitrate.kbps, rules.recommended.bitrate
    value = f"{kbps:g} kbit/s"
    if wish is not None and kbps == wish.kbps:
        yield RECOMMENDED(value, platform=platform, kbps=kbps)
        return
    kind = SHARED
    if kbps in (least, most):
        kind = AT_AN_END
    elif why.choice.choices.most_of_viewers_kbps < why.choice.safe_kbps:
        kind = VIEWERS
    yield kind(value, platform=platform, min_kbps=least, max_kbps=most, share=AUDIO_SHARE)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    audio, rules = settings.audio, [guide.audio for guide in guides]
    wishes = [rule.recommended for rule in rules]
    least, most = max(rule.min_bitrate for rule in rules), min(rule.max_bitrate for rule in rules)
    hertz, channels = [w.sample_rate for w in wishes], [w.channels for w in wishes]
    update = {
        "codec": setting.nearest(audio.codec, [r.codecs for r in rules]),
        "bitrate": audio.bitrate and min(max(audio.bitrate, least), most),
        "sample_rate_hz": setting.nearest(
            audio.sample_rate_hz, [r.sample_rates for r in rules], hertz
        ),
        "channels": setting.nearest(audio.channels, [r.channels for r in rules], channels),
    }
    return settings.model_copy(update={"audio": audio.model_copy(update=update)})


AUDIO = setting.Setting(
    name="audio",
    term="audio bitrate",
    keys=(
        "audio.codecs",
        "audio.min_bitrate",
        "audio.max_bitrate",
        "audio.channels",
        "audio.sample_rates",
    ),
    rules=(
        setting.Rule(_codec, ("audio.codec",)),
        setting.Rule(_bitrate, ("audio.bitrate",)),
        setting.Rule(_sample_rate, ("audio.sample_rate_hz",)),
        setting.Rule(_channels, ("audio.channels",)),
    ),
    always=_always,
    as_planned=_as_planned,
    reasons=_reasons,
    instead=_instead,
)
