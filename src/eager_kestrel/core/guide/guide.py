"""A guide: one platform's ingest guidelines, as a person copied them from its page.

A tier of an account loosens some rules. It is applied once, with :meth:`Guide.under`, and the
guide carries its name from then on, so that whoever holds a guide knows for whom it speaks.
"""

from __future__ import annotations

from datetime import date
from fractions import Fraction
from math import ceil, floor
from typing import Any, Self

from pydantic import Field, PrivateAttr, model_validator

from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import NotFoundError, nearest_name
from eager_kestrel.core.guide.rules import (
    TRANSCODE_RANK,
    AudioRules,
    Delivery,
    Ingest,
    PrivateWay,
    Rung,
    RungLimits,
    RungTable,
    Segments,
    Transcodes,
    Transport,
    VideoRules,
)
from eager_kestrel.core.quantities import FrameRate, Rate, ResolutionSize
from eager_kestrel.core.resolution import Resolution

STALE_AFTER_DAYS = 180


class Tier(Frozen):
    """What an account of some tier is allowed or given beyond the ordinary."""

    ceiling: Rate | None = None
    largest: ResolutionSize | None = None
    fastest: FrameRate | None = None
    codecs: tuple[Codec, ...] | None = None
    transcodes: Transcodes | None = None
    audio_most: Rate | None = None
    rungs: tuple[Rung, ...] | None = None
    """In place of all ordinary rungs."""


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
    ingest: tuple[Ingest, ...] = ()
    unchecked: tuple[str, ...] = ()
    """Keys nobody found in the source: what stands there is a guess."""
    private: PrivateWay | None = None
    """How to try something without viewers, where the platform has a way."""
    rungs: tuple[Rung, ...] = ()
    tiers: dict[str, Tier] = Field(default_factory=dict)
    _tier: str | None = PrivateAttr(default=None)
    _ordinary: Guide | None = PrivateAttr(default=None)

    @property
    def servers(self) -> list[str]:
        """Addresses of its ingest servers, the backups last."""
        return [one.url for one in sorted(self.ingest, key=lambda one: one.backup)]

    def backups_of(self, url: str) -> list[str]:
        """The servers to use when one of its own cannot be reached; none for another address."""
        if url not in self.servers:
            return []
        return [one.url for one in self.ingest if one.backup and one.url != url]

    @model_validator(mode="after")
    def _consistent(self) -> Guide:
        if "hls" in self.transports and self.segments is None:
            raise ValueError("transport hls sends pieces: [segments] must say how long at most")
        keyframes = self.video.keyframes
        if self.segments is not None and keyframes.chosen_seconds > self.segments.at_most:
            raise ValueError(
                f"keyframes ({keyframes.words()}) do not fit segments of at most "
                f"{self.segments.at_most:g} s"
            )
        for number, rung in enumerate(self.rungs):
            self._check_resolution(number, rung)
            self._check_ceiling(number, rung)
        for name, tier in self.tiers.items():
            if not self._loosens(tier):
                raise ValueError(
                    f"tiers.{name}: it loosens nothing; give it something the ordinary lack"
                )
        return self

    def guesses(self, key: str) -> bool:
        """Whether what stands under a key, or under one above or below it, is a guess."""
        return any(
            key == one or key.startswith(f"{one}.") or one.startswith(f"{key}.")
            for one in self.unchecked
        )

    def _check_resolution(self, number: int, rung: Rung) -> None:
        rules = self.video
        largest = [rules.largest, *(s.largest for s in self.tiers.values() if s.largest)]
        if not any(rung.resolution.within(size) for size in largest):
            raise ValueError(
                f"rungs.{number}: {rung.resolution} is larger than largest ({rules.largest})"
            )
        if rules.resolutions and rung.resolution not in rules.resolutions:
            raise ValueError(f"rungs.{number}: {rung.resolution} is not among video.resolutions")
        if rules.shapes and not any(s.fits(rung.resolution) for s in rules.shapes):
            shapes = ", ".join(map(str, rules.shapes))
            raise ValueError(f"rungs.{number}: {rung.resolution} is not {shapes}")

    def _check_ceiling(self, number: int, rung: Rung) -> None:
        most = max([self.video.ceiling, *(s.ceiling for s in self.tiers.values() if s.ceiling)])
        for name in ("floor", "recommended", "ceiling"):
            rate = getattr(rung, name)
            if rate is not None and rate > most:
                raise ValueError(f"rungs.{number}: {name} ({rate}) is above video.ceiling ({most})")

    def _loosens(self, tier: Tier) -> bool:
        rank = TRANSCODE_RANK
        video, fast = self.video, tier.fastest
        return any(
            (
                tier.ceiling is not None and tier.ceiling > video.ceiling,
                tier.largest is not None and not tier.largest.within(video.largest),
                fast is not None and fast > max(video.taken_rates),
                tier.codecs is not None and set(tier.codecs) - set(video.codecs),
                tier.transcodes is not None
                and rank[tier.transcodes] > rank[self.delivery.transcodes],
                tier.audio_most is not None and tier.audio_most > self.audio.most,
                tier.rungs is not None and tier.rungs != self.rungs,
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

    def _loosened(self, over: Tier) -> Self:
        video: dict[str, Any] = {
            "ceiling": over.ceiling or self.video.ceiling,
            "largest": over.largest or self.video.largest,
            "codecs": over.codecs or self.video.codecs,
        }
        if over.fastest is not None:
            video |= {"fastest": over.fastest, "frame_rates": ()}
        most = over.audio_most or self.audio.most
        transcodes = over.transcodes or self.delivery.transcodes
        return self.model_copy(
            update={
                "video": self.video.model_copy(update=video),
                "audio": self.audio.model_copy(update={"most": most}),
                "delivery": self.delivery.model_copy(update={"transcodes": transcodes}),
                "rungs": self.rungs if over.rungs is None else over.rungs,
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
        return (*self.video.resolutions, *(rung.resolution for rung in self.rungs))

    @property
    def keyframe_seconds(self) -> float:
        """The keyframe interval to send; for pieces (HLS), one that makes whole pieces."""
        rule = self.video.keyframes
        chosen, pieces = rule.chosen_seconds, self.segments
        if self.transports[0] != "hls" or pieces is None or pieces.recommended is None:
            return chosen
        whole = pieces.recommended / ceil(pieces.recommended / chosen - 1e-9)
        free = rule.exactly is None and rule.recommended is None
        return whole if free and whole >= (rule.at_least or 0.0) else chosen

    def keyframe_frames(self, rate: Fraction) -> int:
        """The interval in frames: rounded, but never past what the guide allows at most."""
        most = self.video.keyframes.at_most
        frames = max(1, round(self.keyframe_seconds * rate))
        return frames if most is None or frames <= most * rate else max(1, floor(most * rate))

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

    def rung_table(self, codec: str, transport: str) -> RungTable:
        """The rungs that speak of a codec over a transport."""
        rows = [
            rung
            for rung in self.rungs
            if rung.codec in (None, codec) and rung.transport in (None, transport)
        ]
        special = {(r.resolution, r.frame_rate) for r in rows if r.codec or r.transport}
        return RungTable(
            [
                r
                for r in rows
                if r.codec or r.transport or (r.resolution, r.frame_rate) not in special
            ]
        )

    def limits(
        self, resolution: Resolution, frame_rate: Fraction, codec: str, transport: str
    ) -> RungLimits:
        """Return floor, recommended value and ceiling of a resolution, from rows and rules."""
        return self.within_rules(self.rung_table(codec, transport).limits(resolution, frame_rate))

    def within_rules(self, row: RungLimits) -> RungLimits:
        """What a row says, within what holds for every resolution."""
        floors = [rate for rate in (row.floor, self.video.floor) if rate is not None]
        ceiling = (
            self.video.ceiling if row.ceiling is None else min(row.ceiling, self.video.ceiling)
        )
        return RungLimits(
            floor=max(floors, default=None), recommended=row.recommended, ceiling=ceiling
        )

    def stale_days(self, today: date) -> int | None:
        """Days since the guide was checked when that is too long ago, else None."""
        days = (today - self.checked).days
        return days if days > STALE_AFTER_DAYS else None
