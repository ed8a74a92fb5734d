"""What a plan says is held to it: the limit it names is the one that binds, and offers are kept."""

from __future__ import annotations

import re
from collections.abc import Callable
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given, strategies as st

from eager_kestrel.actions.reporting import glossary
from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.choice.limits import VARIABLE_TARGET
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.glossary import explained, numbers_of
from eager_kestrel.core.plan.plan import DestinationPlan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution, parse_frame_rate
from eager_kestrel.core.settings.setting import Reason
from eager_kestrel.core.settings.values import VideoSettings
from eager_kestrel.core.show.machine import EncoderLimit, EncoderSpeed, Machine
from eager_kestrel.core.show.show import MOTIONS, Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import rate as in_words
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from tests.conftest import Kestrel
from tests.test_guide_files import guides

TABLE = quality_table()
BUNDLED = [load_guide(name) for name in ("oxbow", "fernlight", "pocketfair", "gatepost")]
any_guide = st.one_of(st.sampled_from(BUNDLED), guides())
NO_LIMIT = Bitrate(10**10)
PRESETS = {codec: sorted(takes, key=takes.__getitem__) for codec, takes in TABLE.preset.items()}
"""The slowest first, which takes least bitrate."""


@st.composite
def machines(draw: st.DrawFn) -> Machine:
    """Any machine, of which nothing is known or something: slower presets encode fewer pixels."""
    found = []
    for codec, presets in PRESETS.items():
        pace = draw(st.sampled_from([0, 20, 60, 90, 200]))
        for number, preset in enumerate(presets if pace else ()):
            holds = EncoderLimit(
                resolution=Resolution(1280, 720), frame_rate=str(max(1, pace * (number + 1) // 3))
            )
            found.append(
                EncoderSpeed.model_validate({"codec": codec, "preset": preset, "holds": holds})
            )
    return Machine(share=draw(st.sampled_from([0.6, 0.85, 0.3])), encoders=tuple(found))


def planned(guide: Guide, show: Show, kbps: float) -> DestinationPlan:
    made = plan(assumed_uplink(Bitrate.from_kbps(kbps)), show, {guide.name: guide}, TABLE)
    return made.destinations[0]


@st.composite
def cases(draw: st.DrawFn) -> tuple[Guide, Show, float]:
    guide = draw(any_guide)
    show = Show(
        source=draw(st.sampled_from(["1920x1080", "1280x720", "3840x2160", "640x480", "720x576"])),
        shape="16:9",
        source_fps=draw(st.sampled_from(["60", "50", "30", "29.97", "75", "15", "12", "59.94"])),
        motion=draw(st.sampled_from(MOTIONS)),
        machine=draw(machines()),
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
            if "highest" in reason.text:  # of both
                guide = with_video(guide, max_frame_rate=Fraction(480), frame_rates=())
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
        case "guide", _ if reason.text.startswith("larger than your source"):
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
    "resolution": lambda v: (v.resolution.pixels, v.resolution),
    "frame_rate": lambda v: v.frame_rate,
    "bitrate": lambda v: (v.resolution, v.frame_rate, v.bitrate_kbps, v.peak_kbps),
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
        if "would not look better" in reason.text:  # the source's own, and good enough
            assert then is None or value(then) <= value(there.video), reason.text
            continue
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
        elif offer.kind == "machine":
            then = planned(guide, show.model_copy(update={"machine": Machine()}), kbps)
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


def better_safe_rates(guide: Guide, show: Show, now: float, up_to_kbps: float) -> list[float]:
    """By brute force: safe rates of a fine grid whose choice is seen to be better."""
    made = candidates_table(show, guide, TABLE, guide.codec(None))
    rates = np.arange(100.0, up_to_kbps, 25.0)
    rows = made.weigh(rates)
    chosen = made.choose(rows)[1]
    quality = rows.quality[np.arange(rates.size), np.maximum(chosen, 0)]
    better = (chosen >= 0) & (np.round(quality, 4) >= now + TABLE.tie)
    return [float(rate) for rate in rates[better]]


@given(cases())
def test_nothing_nearer_than_what_is_offered_is_better(case: tuple[Guide, Show, float]) -> None:
    """More upload is offered where there is some that is seen to be better, and the least of it."""
    guide, show, kbps = case
    made = plan(assumed_uplink(Bitrate.from_kbps(kbps)), show, {guide.name: guide}, TABLE)
    (there,) = made.destinations
    assume(there.quality is not None)
    assert there.quality is not None
    offered = next((o.upload_kbps for o in there.offers if o.kind == "upload"), None)
    safe = made.budget.safe_kbps
    most = 150_000.0 if offered is None else made.budget.safe_of(offered) - 11
    nearer = [r for r in better_safe_rates(guide, show, there.quality, most) if r > safe + 11]
    assert not nearer, (offered, made.budget.upload_for(nearer[0]))


FREEING: dict[str, Callable[[Guide, Show, float], tuple[Guide, Show, float]]] = {
    "safe rate": lambda guide, show, kbps: (guide, show, 1e7),
    "slowest viewers": lambda guide, show, kbps: (
        guide.with_rules({"delivery": guide.delivery.model_copy(update={"transcodes": "always"})}),
        show.model_copy(update={"viewers": None}),
        kbps,
    ),
    "this machine cannot": lambda guide, show, kbps: (
        guide,
        show.model_copy(update={"machine": Machine()}),
        kbps,
    ),
    "takes at most": lambda guide, show, kbps: (
        with_video(guide, max_bitrate=NO_LIMIT).with_rules(
            {"bitrates": tuple(r.model_copy(update={"max": None}) for r in guide.bitrates)}
        ),
        show,
        kbps,
    ),
    "level": lambda guide, show, kbps: (with_video(guide, max_level={}), show, kbps),
}
"""What a refusal says, and the same without that."""


@given(cases(), st.none() | st.floats(100, 3000), st.floats(100, 2000))
def test_a_refusal_names_just_the_limits_without_which_there_are_settings(
    case: tuple[Guide, Show, float], viewers: float | None, kbps: float
) -> None:
    guide, show, _ = case
    if viewers is not None:
        show = show.model_copy(update={"viewers": Bitrate.from_kbps(viewers)})
    there = planned(guide, show, kbps)
    assume(there.video is None and there.limited_by)
    named = [said for said in FREEING if said in there.infeasible_because]
    assert named, there.infeasible_because
    for left in (None, *named):
        freed = (guide, show, kbps)
        for said in named:
            freed = FREEING[said](*freed) if said != left else freed
        then = planned(*freed)
        if left is None and named != ["level"]:
            assert then.video is not None, (there.infeasible_because, then.infeasible_because)
        if left is not None and len(named) > 1:
            assert then.video is None, (there.infeasible_because, left)


@given(cases())
def test_what_holds_a_picture_back_most_is_named(case: tuple[Guide, Show, float]) -> None:
    """Without it quality gains, and by no less than without any other limit."""
    guide, show, kbps = case
    there = planned(guide, show, kbps)
    assume(there.quality is not None)
    assert there.quality is not None
    gains = {
        "budget": planned(guide, show, 1e7),
        "machine": planned(guide, show.model_copy(update={"machine": Machine()}), kbps),
        "viewers": planned(*FREEING["slowest viewers"](guide, show, kbps)),
        "guide": planned(*FREEING["takes at most"](guide, show, kbps)),
    }
    most = max(then.quality or 0.0 for then in gains.values())
    named = gains.get(there.held_back_by or "")
    if there.held_back_by is None:
        assert most < there.quality + TABLE.tie + 1e-4
    elif named is not None:
        assert named.quality is not None
        assert named.quality >= most - 1e-4
        assert named.quality >= there.quality + TABLE.tie - 1e-4


def calculated(left: str) -> tuple[float, float] | None:
    """A sum as it is printed, and how far rounding may have moved it; None where it is none."""
    parts = re.split(r" ([-+x/]) ", re.sub(r"(?<=[0-9]),(?=[0-9])", "", left))
    numbers = [re.findall(r"[0-9.]+", part) for part in parts[::2]]
    if len(parts) < 3 or not all(numbers):
        return None
    values = [float(found[0]) for found in numbers]
    value, error = values[0], 0.5
    for sign, other in zip(parts[1::2], values[1:], strict=True):
        if sign in "+-":
            value, error = value + (other if sign == "+" else -other), error + 0.5
        else:
            value, error = (
                (value * other, error * other)
                if sign == "x"
                else (value / other, error / other + value / other * 0.5 / other)
            )
    return value, error


@given(cases(), st.none() | st.floats(300, 9000))
def test_one_quantity_has_one_figure(
    case: tuple[Guide, Show, float], viewers: float | None
) -> None:
    """In the budget, its reasons and what ``explain`` adds up."""
    guide, show, kbps = case
    if viewers is not None:
        show = show.model_copy(update={"viewers": Bitrate.from_kbps(viewers)})
    made = plan(assumed_uplink(Bitrate.from_kbps(kbps)), show, {guide.name: guide}, TABLE)
    (there,) = made.destinations
    assume(there.video is not None)
    assert there.video is not None
    facts = next(r for r in there.reasons if r.setting == "bitrate").facts
    assert facts["safe_kbps"] == there.budget_steps[0].before_kbps
    assert facts["budget_kbps"] == there.budget_steps[-1].after_kbps
    assert there.payload_kbps <= there.total_kbps
    if facts.get("viewers_kbps"):
        assert there.payload_kbps <= float(facts["viewers_kbps"]) + 1e-6
    for name, term in glossary().terms.items():
        for said in (explained(name, term, numbers_of(made), "x").sum or "").split("; "):
            left, *more = said.split(" = ")
            found = calculated(left)
            if found is not None and more and "kB" not in said and "GB" not in said:
                right = float(re.sub(r"[^0-9.]", "", more[0].split()[0]))
                assert right == pytest.approx(found[0], abs=found[1] + 0.5, rel=0.01), said


@given(cases())
def test_no_segment_is_longer_than_is_taken(case: tuple[Guide, Show, float]) -> None:
    guide, show, kbps = case
    there = planned(guide, show, kbps)
    assume(there.video is not None and guide.segments is not None)
    assert there.video is not None
    assert guide.segments is not None
    seconds, rule = there.video.keyframe_frames / there.video.frame_rate, guide.video.keyframes
    assert rule.exact is not None or seconds <= guide.segments.max
    assert rule.max is None or seconds <= rule.max


@pytest.mark.parametrize(
    ("source", "rates", "sent", "says", "judders"),
    [
        (
            "15",
            ["30"],
            "30",
            "nothing as low as your source's 15 fps; each frame is sent twice",
            False,
        ),
        ("12", ["23.976", "24", "30"], "24", "each frame is sent twice", False),
        ("10", ["24", "30"], "30", "each frame is sent 3 times", False),
        ("20", ["30", "50"], "30", "some frames are sent again", True),
        ("60", ["60", "30"], "60", "your source's own", False),
    ],
)
def test_slow_sources_are_told_as_they_are(
    source: str, rates: list[str], sent: str, says: str, judders: bool
) -> None:
    guide = with_video(
        BUNDLED[0], max_frame_rate=None, frame_rates=tuple(map(parse_frame_rate, rates))
    )
    show = Show(
        source="1280x720",
        source_fps=source,
        motion="lively",
        destinations=(Destination(platform=guide.name),),
    )
    made = plan(assumed_uplink(Bitrate.from_kbps(20_000)), show, {guide.name: guide}, TABLE)
    reason = next(r for r in made.destinations[0].reasons if r.setting == "frame_rate")
    assert reason.value == sent
    assert says in reason.text
    assert reason.limited_by == ("source" if says == "your source's own" else "guide")
    assert any("judder" in warning for warning in made.warnings) is judders


@pytest.mark.parametrize(("shape", "picture"), [("16:9", "1024x576"), ("4:3", "768x576")])
def test_a_picture_keeps_its_shape_whatever_its_pixels_are(
    kestrel: Kestrel, shape: str, picture: str
) -> None:
    """720x576 is planned as its picture with square pixels, and printed commands make it so."""
    asked = ("plan", "oxbow", "--source", "720x576@25i", "--upload", "20 Mbit/s")
    assert "add --shape 16:9 or --shape 4:3" in kestrel(*asked).error_line
    made = kestrel(*asked, "--shape", shape, "--json").document
    square = kestrel(*asked[:3], f"{picture}@25i", *asked[4:], "--json").document["destinations"][0]
    (there,) = made["destinations"]
    video = there["video"]
    assert (video["square_width"], video["square_height"]) == tuple(map(int, picture.split("x")))
    assert there["fit"] == square["fit"]
    assert Resolution(video["width"], video["height"]).within(Resolution.parse(picture))
    assert f"720x576 ({shape})" in kestrel(*asked, "--shape", shape).out
    assert "first, to one frame of each field" in kestrel(*asked, "--shape", shape).out
    for kind, square_pixels in (("ffmpeg", "setsar=1"), ("gstreamer", "pixel-aspect-ratio=1/1")):
        assert square_pixels in kestrel(*asked, "--shape", shape, "--command", kind).out


def test_what_viewers_get_has_no_repeats() -> None:
    """SRT keeps a quarter free for packets sent again, which neither viewers nor a copy hold."""
    srt = BUNDLED[0].model_copy(update={"transports": ("srt",)})
    show = Show(
        source="1280x720",
        source_fps="30",
        motion="calm",
        destinations=(Destination(platform=srt.name),),
    )
    made = plan(assumed_uplink(Bitrate.from_kbps(2000)), show, {srt.name: srt}, TABLE)
    (there,) = made.destinations
    assert there.video is not None
    assert there.audio is not None
    passed_on = there.video.max_kbps + there.audio.bitrate_kbps
    assert there.payload_kbps == passed_on < there.total_kbps / 1.25
    assert made.local_copy.sent_gb_per_hour == pytest.approx(passed_on * 3600 / 8e6, abs=0.01)
    assert f"slower than {in_words(passed_on)}" in " ".join((*made.warnings, *made.remarks))
