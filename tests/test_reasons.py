"""What a plan says is held to it: the limit it names is the one that binds, and offers are kept."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest
from hypothesis import assume, given, strategies as st

from eager_kestrel.core.choice.limits import VARIABLE_TARGET
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import DestinationPlan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings.setting import Reason
from eager_kestrel.core.settings.values import VideoSettings
from eager_kestrel.core.show.machine import EncoderLimit, EncoderSpeed, Machine
from eager_kestrel.core.show.show import MOTIONS, Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from tests.test_guide_files import guides

TABLE = quality_table()
BUNDLED = [load_guide(name) for name in ("oxbow", "fernlight", "pocketfair", "gatepost")]
any_guide = st.one_of(st.sampled_from(BUNDLED), guides())
NO_LIMIT = Bitrate(10**10)
MACHINES = (
    Machine(),
    Machine(
        encoders=(
            EncoderSpeed(
                codec="h264",
                preset="fast",
                holds=EncoderLimit(resolution=Resolution(1280, 720), frame_rate="90"),
            ),
        )
    ),
)


def planned(guide: Guide, show: Show, kbps: float) -> DestinationPlan:
    made = plan(assumed_uplink(Bitrate.from_kbps(kbps)), show, {guide.name: guide}, TABLE)
    return made.destinations[0]


@st.composite
def cases(draw: st.DrawFn) -> tuple[Guide, Show, float]:
    guide = draw(any_guide)
    show = Show(
        source=draw(st.sampled_from(["1920x1080", "1280x720", "3840x2160", "640x480"])),
        source_fps=draw(st.sampled_from(["60", "50", "30", "29.97", "75"])),
        motion=draw(st.sampled_from(MOTIONS)),
        machine=draw(st.sampled_from(MACHINES)),
        destinations=(Destination(platform=guide.name),),
    )
    kbps = draw(st.one_of(st.floats(200, 4000), st.floats(1000, 15_000), st.floats(5000, 90_000)))
    return guide, show, kbps


def with_video(guide: Guide, **update: Any) -> Guide:
    return guide.with_rules({"video": guide.video.model_copy(update=update)})


def loosened(reason: Reason, guide: Guide, show: Show, kbps: float) -> tuple[Guide, Show, float]:
    """The same without the limit that a reason names."""
    bitrates = guide.bitrates
    match reason.limited_by, set(reason.facts):
        case "budget", _:
            return guide, show, 1.5 * kbps + 400
        case "machine", _:
            return guide, show.model_copy(update={"machine": Machine()}), kbps
        case "source", _:
            larger = Resolution(2 * show.source.width, 2 * show.source.height)
            faster = min(2 * show.source_fps, Fraction(480))
            update = (
                {"source_fps": faster} if reason.setting == "frame_rate" else {"source": larger}
            )
            return guide, show.model_copy(update=update), kbps
        case "guide", said if "min_kbps" in said and reason.setting != "audio":
            free = [r.model_copy(update={"min": None}) for r in bitrates if r.max or r.recommended]
            if reason.facts["machine_too"]:
                show = show.model_copy(update={"machine": Machine()})
            return (
                with_video(guide, min_bitrate=None).with_rules({"bitrates": tuple(free)}),
                show,
                kbps,
            )
        case "guide", said if "max_kbps" in said:
            free = [r.model_copy(update={"max": None}) for r in bitrates if r.min or r.recommended]
            loose = with_video(guide, max_bitrate=NO_LIMIT)
            return loose.with_rules({"bitrates": tuple(free)}), show, kbps
        case "guide", said if "rewarded" in said:
            plain = guide.delivery.model_copy(update={"better_from_lines": None})
            return guide.with_rules({"delivery": plain}), show, kbps
        case "guide", _ if reason.text == f"what {guide.title} recommends":
            wish = guide.video.recommended.model_copy(update={"frame_rate": None})
            return with_video(guide, recommended=wish), show, kbps
        case _:
            every = {
                "max_resolution": Resolution(16384, 16384),
                "resolutions": (),
                "frame_rates": (),
            }
            return with_video(guide, max_frame_rate=Fraction(480), **every), show, kbps


def tied(there: DestinationPlan) -> bool:
    """Whether another limit leaves as much bitrate, to a step of the settings grid."""
    facts = next(r for r in there.reasons if r.setting == "bitrate").facts
    limits = sorted(
        float(facts[key]) for key in ("budget_kbps", "max_kbps", "level_kbps", "clean_kbps")
    )
    viewers = float(facts["viewers_kbps"])
    near = min(abs(viewers - kbps) for kbps in (float(facts["safe_kbps"]), there.total_kbps))
    by_viewers = viewers > 0 and near <= 150 / VARIABLE_TARGET
    return limits[1] - limits[0] <= 100 / VARIABLE_TARGET or by_viewers


@given(cases())
def test_a_step_down_is_what_its_upload_gives(case: tuple[Guide, Show, float]) -> None:
    guide, show, kbps = case
    for step in planned(guide, show, kbps).fallbacks:
        then = planned(guide, show, step.upload_kbps)
        assert (then.video, then.audio) == (step.video, step.audio)


VALUES: dict[str, Any] = {
    "resolution": lambda v: v.resolution,
    "frame_rate": lambda v: v.frame_rate,
    "bitrate": lambda v: (v.resolution, v.frame_rate, v.bitrate_kbps),
}


@given(cases())
def test_without_the_limit_that_is_named_the_setting_is_another(
    case: tuple[Guide, Show, float],
) -> None:
    guide, show, kbps = case
    there = planned(guide, show, kbps)
    assume(there.video is not None)
    for reason in there.reasons:
        if reason.setting not in VALUES or reason.limited_by not in (
            "budget",
            "guide",
            "machine",
            "source",
        ):
            continue
        if reason.setting == "bitrate" and tied(there):
            continue
        then = planned(*loosened(reason, guide, show, kbps)).video
        value = VALUES[reason.setting]
        assert then is None or value(then) != value(there.video), reason.text


@given(cases())
def test_a_resolution_that_would_look_no_better_does_not(case: tuple[Guide, Show, float]) -> None:
    """What stands against the next larger resolution is its own quality, never a rule unsaid."""
    there = planned(*case)
    assume(there.video is not None)
    for reason in there.reasons:
        for one, other in (("next_quality", "quality"), ("other_quality", "quality")):
            if one in reason.facts and reason.limited_by.startswith("quality"):
                assert float(reason.facts[one]) <= float(reason.facts[other]) + 1e-6, reason.text


@given(cases(), st.none() | st.floats(300, 9000), st.floats(1.0, 1.6))
def test_more_upload_never_looks_worse_whatever_viewers_have(
    case: tuple[Guide, Show, float], viewers: float | None, more: float
) -> None:
    guide, show, kbps = case
    if viewers is not None:
        show = show.model_copy(update={"viewers": Bitrate.from_kbps(viewers)})
    guide = with_video(
        guide, recommended=guide.video.recommended.model_copy(update={"frame_rate": None})
    )
    before, after = planned(guide, show, kbps), planned(guide, show, kbps * more)
    assume(before.quality is not None)
    assert after.quality is not None
    assert before.quality is not None
    assert after.quality >= before.quality - TABLE.tie - 1e-4
    assert after.audio is not None
    assert before.audio is not None
    assert after.audio.bitrate_kbps >= before.audio.bitrate_kbps


@given(cases())
def test_offers_of_one_destination_are_kept(case: tuple[Guide, Show, float]) -> None:
    guide, show, kbps = case
    there = planned(guide, show, kbps)
    assume(there.video is not None)
    for offer in there.offers:
        place = show.destinations[0]
        if offer.kind == "upload":
            assert offer.upload_kbps is not None
            then = planned(guide, show, offer.upload_kbps)
        elif offer.kind == "tier":
            place = place.model_copy(update={"tier": offer.needs})
            then = planned(guide, show.model_copy(update={"destinations": (place,)}), kbps)
        else:
            place = place.model_copy(update={"codec": offer.needs})
            then = planned(guide, show.model_copy(update={"destinations": (place,)}), kbps)
        assert then.quality is not None
        assert there.quality is not None
        assert then.quality >= there.quality + TABLE.tie - 1e-4
        assert then.video is not None
        assert gives(then.video) == (offer.gives.resolution, offer.gives.frame_rate)
        assert then.video.bitrate_kbps >= offer.gives.bitrate_kbps


def gives(video: VideoSettings) -> tuple[Resolution, Fraction]:
    return video.resolution, video.frame_rate


RATES = {
    "165": ("60", "30"),
    "75": ("60", "30"),
    "70": ("60", "30"),
    "59.940": ("59.94", "29.97"),
    "29.97": ("29.97", "29.97"),
    "25": ("25", "30"),
    "24": ("24", "30"),
    "60": ("60", "30"),
    "50": ("50", "30"),
    "29.9": ("29.9", "30"),
}


@pytest.mark.parametrize("source", sorted(RATES))
def test_sources_of_any_rate_get_the_best_a_guide_takes(source: str) -> None:
    """Oxbow takes any rate up to 60, Pocketfair takes 30 alone; uneven steps are said."""
    from eager_kestrel.core.resolution import divides_evenly, frame_rate_text

    for guide, rate in zip((BUNDLED[0], BUNDLED[2]), RATES[source], strict=True):
        show = Show(
            source="1920x1080",
            source_fps=source,
            motion="lively",
            destinations=(Destination(platform=guide.name),),
        )
        made = plan(assumed_uplink(Bitrate.parse("12 Mbit/s")), show, {guide.name: guide}, TABLE)
        video = made.destinations[0].video
        assert video is not None
        assert frame_rate_text(video.frame_rate) == rate
        judders = not divides_evenly(show.source_fps, video.frame_rate)
        assert any("judder" in warning for warning in made.warnings) is judders


def test_a_least_quality_holds_for_one_destination_too() -> None:
    place = Destination(platform="oxbow", min_quality=0.9)
    show = Show(source="1920x1080", source_fps="60", motion="hectic", destinations=(place,))
    poor = planned(BUNDLED[0], show, 2_000)
    assert not poor.feasible
    assert "the show wants at least 90" in poor.infeasible_because


def test_enlarging_has_a_limit() -> None:
    for source, enlarged in (("1280x720", True), ("640x360", False)):
        show = Show(
            source=source,
            source_fps="30",
            motion="calm",
            destinations=(Destination(platform="fernlight"),),
        )
        video = planned(BUNDLED[1], show, 60_000).video
        assert video is not None
        assert (video.resolution.pixels > show.source.pixels) is enlarged


SHAPES = ["1440x1080", "1920x1200", "2560x1080", "1280x720", "1080x1920", "720x720", "640x480"]


@pytest.mark.parametrize("source", SHAPES)
@pytest.mark.parametrize("named", [("720x1280", "540x960"), ("1280x720", "854x480"), ("640x480",)])
@pytest.mark.parametrize("shaped", [True, False])
def test_sources_of_any_shape_are_cropped_or_padded(
    source: str, named: tuple[str, ...], shaped: bool
) -> None:
    """A guide with a few resolutions takes any source; what a crop and a pad show is said."""
    resolutions = tuple(map(Resolution.parse, named))
    largest = Resolution(max(p.width for p in resolutions), max(p.height for p in resolutions))
    shapes = BUNDLED[2].video.shapes if named[0] == "720x1280" and shaped else ()
    guide = with_video(BUNDLED[0], resolutions=resolutions, max_resolution=largest, shapes=shapes)
    show = Show(
        source=source,
        source_fps="30",
        motion="lively",
        destinations=(Destination(platform="oxbow"),),
    )
    there = planned(guide, show, 9_000)
    assert there.video is not None, there.infeasible_because
    assert there.video.resolution in resolutions
    fits = there.video.resolution.shape.fits(show.source)
    assert (there.fit is None) is fits
    if there.fit is not None:
        for part, share in ((there.fit.crop, there.fit.kept_share),):
            assert part.within(show.source)
            assert there.video.resolution.shape.fits(part)
            assert share == pytest.approx(part.pixels / show.source.pixels, abs=0.01)
        assert there.fit.pad.within(there.video.resolution)
        smaller = [p for p in resolutions if p.pixels < there.video.resolution.pixels]
        assert not smaller or there.fit.enlarged <= 1.5  # nothing is blown up without need
