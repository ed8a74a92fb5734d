"""A guide: one platform's ingest guidelines, as a person copied them from its page.

A tier of an account loosens some rules. It is applied once, with :meth:`Guide.under`, and the
guide carries its name from then on, so that whoever holds a guide knows for whom it speaks.
"""

from __future__ import annotations

from datetime import date
from fractions import Fraction
from typing import Any, Self

from pydantic import Field, PrivateAttr, model_validator

from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import NotFoundError, nearest_name
from eager_kestrel.core.guide.rules import (
    TRANSCODE_RANK,
    AudioRules,
    BitrateRow,
    BitrateTable,
    Delivery,
    PrivateWay,
    RowLimits,
    Segments,
    Server,
    Transcodes,
    Transport,
    VideoRules,
)
from eager_kestrel.core.quantities import FrameRate, Rate, ResolutionSize
from eager_kestrel.core.resolution import Resolution

STALE_AFTER_DAYS = 180


class TierVideo(Frozen):
    """What replaces a key of ``video``."""

    max_bitrate: Rate | None = None
    max_resolution: ResolutionSize | None = None
    max_frame_rate: FrameRate | None = None
    codecs: tuple[Codec, ...] | None = None


class TierAudio(Frozen):
    """What replaces a key of ``audio``."""

    max_bitrate: Rate | None = None


class TierDelivery(Frozen):
    """What replaces a key of ``delivery``."""

    transcodes: Transcodes | None = None


class Tier(Frozen):
    """What an account of some tier is allowed or given beyond the ordinary, in the same keys."""

    video: TierVideo = TierVideo()
    audio: TierAudio = TierAudio()
    delivery: TierDelivery = TierDelivery()
    bitrates: tuple[BitrateRow, ...] | None = None
    """In place of all ordinary rows."""


class Guide(Frozen):
    """One platform's ingest guidelines."""

    format: str = format_name("guide")
    name: str = Field(pattern=r"^[a-z][a-z0-9-]{0,40}$")
    """Lower case, as in the file's name."""
    title: str
    """As people call it."""
    source: str
    """Where the figures come from: an address or a few words."""
    checked: date
    """The day somebody held them against the source."""
    transports: tuple[Transport, ...] = Field(min_length=1)
    """In the order the platform prefers."""
    delivery: Delivery
    video: VideoRules
    audio: AudioRules
    segments: Segments | None = None
    servers: tuple[Server, ...] = ()
    unverified: tuple[str, ...] = ()
    """Keys nobody found in the source: what stands there is a guess."""
    private: PrivateWay | None = None
    """How to try something without viewers, where the platform has a way."""
    bitrates: tuple[BitrateRow, ...] = ()
    tiers: dict[str, Tier] = Field(default_factory=dict)
    _tier: str | None = PrivateAttr(default=None)
    _ordinary: Guide | None = PrivateAttr(default=None)

    @property
    def addresses(self) -> list[str]:
        """Addresses of its ingest servers, the backups last."""
        return [one.url for one in sorted(self.servers, key=lambda one: one.backup)]

    def backups_of(self, url: str) -> list[str]:
        """The servers to use when one of its own cannot be reached; none for another address."""
        if url not in self.addresses:
            return []
        return [one.url for one in self.servers if one.backup and one.url != url]

    @model_validator(mode="after")
    def _consistent(self) -> Guide:
        if "hls" in self.transports and self.segments is None:
            raise ValueError("transport hls sends pieces: [segments] must say how long at most")
        keyframes = self.video.keyframes
        if self.segments is not None and keyframes.chosen_seconds > self.segments.max:
            raise ValueError(
                f"keyframes ({keyframes.text()}) do not fit segments of at most "
                f"{self.segments.max:g} s"
            )
        for number, row in enumerate(self.bitrates):
            self._check_resolution(number, row)
            self._check_bitrate(number, row)
        for name, tier in self.tiers.items():
            if not self._loosens(tier):
                raise ValueError(
                    f"tiers.{name}: it loosens nothing; give it something the ordinary lack"
                )
        return self

    def guesses(self, key: str) -> bool:
        """Whether what stands under a key, or under one above or below it, is a guess.

        So are limits of a bitrate while the rows that give them are.
        """
        rows = ("bitrates",) if key in ("video.max_bitrate", "video.min_bitrate") else ()
        return any(
            one in rows or key == one or key.startswith(f"{one}.") or one.startswith(f"{key}.")
            for one in self.unverified
        )

    def _check_resolution(self, number: int, row: BitrateRow) -> None:
        rules, tiers = self.video, [tier.video for tier in self.tiers.values()]
        sizes = [rules.max_resolution, *(v.max_resolution for v in tiers if v.max_resolution)]
        if not any(row.resolution.within(size) for size in sizes):
            raise ValueError(
                f"row {number + 1} of the table: {row.resolution} is larger than the largest "
                f"resolution, {rules.max_resolution}"
            )
        if rules.resolutions and row.resolution not in rules.resolutions:
            raise ValueError(
                f"row {number + 1} of the table: {row.resolution} is not among video.resolutions"
            )
        if rules.shapes and not any(s.fits(row.resolution) for s in rules.shapes):
            shapes = ", ".join(map(str, rules.shapes))
            raise ValueError(f"row {number + 1} of the table: {row.resolution} is not {shapes}")

    def _check_bitrate(self, number: int, row: BitrateRow) -> None:
        raised = (tier.video.max_bitrate for tier in self.tiers.values())
        most = max([self.video.max_bitrate, *(rate for rate in raised if rate)])
        for name in ("min", "recommended", "max"):
            rate = getattr(row, name)
            if rate is not None and rate > most:
                raise ValueError(
                    f"row {number + 1} of the table: {name} ({rate}) is above video.max_bitrate "
                    f"({most})"
                )

    def _loosens(self, tier: Tier) -> bool:
        """Whether a tier allows or gives anything more."""
        video, own, ranks = tier.video, self.video, TRANSCODE_RANK
        transcodes, loudest = tier.delivery.transcodes, tier.audio.max_bitrate
        return any(
            (
                video.max_bitrate is not None and video.max_bitrate > own.max_bitrate,
                video.max_resolution and not video.max_resolution.within(own.max_resolution),
                video.max_frame_rate and video.max_frame_rate > max(own.taken_rates),
                video.codecs is not None and set(video.codecs) - set(own.codecs),
                transcodes and ranks[transcodes] > ranks[self.delivery.transcodes],
                loudest is not None and loudest > self.audio.max_bitrate,
                tier.bitrates is not None and tier.bitrates != self.bitrates,
            )
        )

    @property
    def tier(self) -> str | None:
        """Of the account it speaks for; None for an ordinary one."""
        return self._tier

    @property
    def ordinary(self) -> Guide:
        """The guide without any tier applied."""
        return self if self._ordinary is None else self._ordinary

    @property
    def label(self) -> str:
        """``oxbow`` or ``oxbow:hearth``, as on the command line."""
        return f"{self.name}:{self.tier}" if self.tier else self.name

    def under(self, tier: str | None) -> Guide:
        """The guide as it holds for an account of that tier, whichever it carried before.

        Raises:
            NotFoundError: the guide knows no such tier; suggests one.
        """
        plain = self.ordinary
        if tier is None:
            return plain
        if tier not in plain.tiers:
            raise NotFoundError(
                f'{self.title} knows no tier "{tier}"',
                nearest_name(tier, list(plain.tiers), "it has none"),
            )
        ruled = plain._loosened(plain.tiers[tier])
        ruled._tier, ruled._ordinary = tier, plain
        return ruled

    def _loosened(self, tier: Tier) -> Self:
        video = _set_in(tier.video)
        if tier.video.max_frame_rate is not None:
            video["frame_rates"] = ()
        return self.model_copy(
            update={
                "video": self.video.model_copy(update=video),
                "audio": self.audio.model_copy(update=_set_in(tier.audio)),
                "delivery": self.delivery.model_copy(update=_set_in(tier.delivery)),
                "bitrates": self.bitrates if tier.bitrates is None else tier.bitrates,
            }
        )

    def with_rules(self, rules: dict[str, Any]) -> Self:
        """Other rules in place of its own, for no account in particular."""
        changed = self.model_copy(update=rules)
        changed._tier = changed._ordinary = None
        return changed

    @property
    def named(self) -> tuple[Resolution, ...]:
        """Every resolution it speaks of."""
        return (*self.video.resolutions, *(row.resolution for row in self.bitrates))

    def takes_codec(self, wanted: str | None) -> bool:
        """Whether a codec that is asked for is taken; None asks for none."""
        return wanted is None or wanted in self.video.codecs

    def codec(self, wanted: str | None = None) -> Codec:
        """The codec to send: the wanted one, the recommended one, else H.264 where it is taken.

        Raises:
            NotFoundError: the wanted one is not taken.
        """
        if wanted is not None:
            taken = next((c for c in self.video.codecs if c == wanted), None)
            if taken is None:
                raise NotFoundError(
                    f"{self.title} does not take {wanted}",
                    f"choose from {', '.join(self.video.codecs)}",
                )
            return taken
        if self.video.recommended.codec is not None:
            return self.video.recommended.codec
        return "h264" if "h264" in self.video.codecs else self.video.codecs[0]

    def bitrate_table(self, codec: str, transport: str) -> BitrateTable:
        """The rows that speak of a codec over a transport."""
        rows = [
            row
            for row in self.bitrates
            if row.codec in (None, codec) and row.transport in (None, transport)
        ]
        special = {(r.resolution, r.frame_rate) for r in rows if r.codec or r.transport}
        return BitrateTable(
            [
                r
                for r in rows
                if r.codec or r.transport or (r.resolution, r.frame_rate) not in special
            ]
        )

    def limits(
        self, resolution: Resolution, frame_rate: Fraction, codec: str, transport: str
    ) -> RowLimits:
        """Minimum, recommended value and maximum of a resolution, from rows and rules."""
        return self.within_rules(
            self.bitrate_table(codec, transport).limits(resolution, frame_rate)
        )

    def within_rules(self, row: RowLimits) -> RowLimits:
        """What a row says, within what holds for every resolution."""
        lows = [rate for rate in (row.min, self.video.min_bitrate) if rate is not None]
        high = self.video.max_bitrate if row.max is None else min(row.max, self.video.max_bitrate)
        return RowLimits(min=max(lows, default=None), recommended=row.recommended, max=high)

    def stale_days(self, today: date) -> int | None:
        """Days since the guide was checked when that is too long ago, else None."""
        days = (today - self.checked).days
        return days if days > STALE_AFTER_DAYS else None


def _set_in(model: Frozen) -> dict[str, Any]:
    """What is set of a model, by name."""
    return {key: value for key, value in model if value is not None}
