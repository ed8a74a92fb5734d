"""Several destinations on one line: the best division there is, and every guide holds."""

from __future__ import annotations

import re
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from eager_kestrel.core.checks.findings import check
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.division.answers import FEW
from eager_kestrel.core.division.divide import chosen_division
from eager_kestrel.core.division.groupings import (
    SERVED_WORTH,
    Groupings,
    groupings,
    relative_weights,
)
from eager_kestrel.core.division.knapsack import CELL_KBPS, Choices, KnapsackTable
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.joint import Clash, joint_guide
from eager_kestrel.core.guide.rules import Keyframes, Segments
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.machine import EncoderSpeed, Machine
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from tests.conftest import Kestrel

TABLE = quality_table()
PLATFORMS = ("oxbow", "fernlight", "pocketfair", "gatepost")
GUIDES = {name: load_guide(name) for name in PLATFORMS}
SLOW = Machine.model_validate(
    {"encoders": [{"codec": "h264", "preset": "veryfast", "holds": "1920x1080 at 75"}]}
)


def show(*places: Destination, **changed: Any) -> Show:
    base: dict[str, Any] = {"source": Resolution(1920, 1080), "source_fps": 60, "motion": "lively"}
    return Show(**(base | changed | {"destinations": places}))


def planned(kbps: float, wanted: Show, *, further: bool = False) -> Plan:
    line = assumed_uplink(Bitrate.from_kbps(kbps))
    return plan(line, wanted, GUIDES, TABLE, look_further=further)


@st.composite
def choices(draw: st.DrawFn) -> Choices:
    rows = draw(
        st.lists(
            st.tuples(st.integers(0, 8), st.integers(0, 4), st.floats(-0.1, 2)),
            min_size=1,
            max_size=5,
        )
    )
    cells, loads, worth = zip(*rows, strict=True)
    return Choices(np.array(cells), np.array(loads), np.array(worth))


@given(st.lists(choices(), min_size=1, max_size=4), st.integers(0, 16), st.integers(0, 6))
def test_the_division_is_what_trying_everything_finds(
    offered: list[Choices], line: int, machine: int
) -> None:
    best = -np.inf
    for picked in product(*(range(len(c)) for c in offered)):
        pairs = list(zip(offered, picked, strict=True))
        cells = sum(c.cells[i] for c, i in pairs)
        if cells <= line and sum(c.loads[i] for c, i in pairs) <= machine:
            best = max(best, sum(float(c.worth[i]) for c, i in pairs))
    table = KnapsackTable(line, machine)
    for choices_ in offered:
        table = table.with_(choices_)
    assert table.worth() == pytest.approx(best)
    if best > -np.inf:
        found = table.taken()
        pairs = list(zip(offered, found, strict=True))
        assert sum(int(c.cells[i]) for c, i in pairs) <= line
        assert sum(int(c.loads[i]) for c, i in pairs) <= machine
        assert sum(float(c.worth[i]) for c, i in pairs) == pytest.approx(best)


def test_there_are_as_many_groupings_as_bell_numbers() -> None:
    assert [len(list(groupings(range(n)))) for n in range(7)] == [1, 1, 2, 5, 15, 52, 203]


places = st.builds(
    Destination,
    platform=st.sampled_from(PLATFORMS),
    weight=st.sampled_from([0.5, 1.0, 2.0, 5.0]),
    encode=st.sampled_from(["either", "either", "own"]),
)
shows = st.builds(
    lambda chosen, motion, machine: show(*chosen, motion=motion, machine=machine),
    st.lists(places, min_size=2, max_size=4, unique_by=lambda d: d.platform),
    st.sampled_from(["calm", "hectic"]),
    st.sampled_from([Machine(), SLOW]),
)


@given(st.floats(1500, 60_000), shows, st.none() | st.floats(500, 9000))
def test_without_the_limit_that_is_named_a_bitrate_is_another(
    kbps: float, wanted: Show, viewers: float | None
) -> None:
    """Of each destination of several: with ten times the upload, or with viewers of any speed.

    Where two limits are the same, neither changes anything alone.
    """
    if viewers is not None:
        wanted = wanted.model_copy(update={"viewers": Bitrate.from_kbps(viewers)})
    limited = planned(kbps, wanted).destinations
    quick = planned(kbps, wanted.model_copy(update={"viewers": None})).destinations
    wide = planned(10 * kbps + 100_000, wanted).destinations
    anyone = planned(10 * kbps + 100_000, wanted.model_copy(update={"viewers": None})).destinations
    for there, roomy, fast, free in zip(limited, wide, quick, anyone, strict=True):
        if there.video is None:
            continue
        reason = next(r for r in there.reasons if r.setting == "bitrate")
        if reason.limited_by == "budget":
            assert roomy.video != there.video or fast.video == there.video, reason.text
        if reason.limited_by == "viewers" and viewers is not None:
            assert free.video != there.video, reason.text


@settings(max_examples=7)
@given(st.floats(300, 40_000), shows)
def test_never_above_the_safe_rate_and_every_guide_holds(kbps: float, wanted: Show) -> None:
    result = planned(kbps, wanted)
    split = result.split
    assert split is not None
    assert result.total_kbps <= result.budget.safe_kbps + 0.01
    assert split.unused_kbps == pytest.approx(result.budget.safe_kbps - result.total_kbps, abs=0.01)
    served = [name for group in split.groups for name in group.platforms]
    assert sorted(served + list(split.left_out)) == sorted(d.name for d in wanted.destinations)
    if wanted.machine.encoders and split.groups:
        assert sum(group.machine_share or 0 for group in split.groups) <= 1 + 1e-9
    for there, place in zip(result.destinations, wanted.destinations, strict=True):
        if not there.feasible:
            assert place.name in split.left_out
            assert there.infeasible_because
            continue
        found = check(there.settings, [GUIDES[place.platform].under(place.tier)])
        assert [f for f in found.findings if f.severity == "breach"] == []
        own = next(group for group in split.groups if place.name in group.platforms)
        facts = next(r for r in there.reasons if r.setting == "bitrate").facts
        assert facts["safe_kbps"] == there.budget_steps[0].before_kbps
        assert facts["budget_kbps"] == there.budget_steps[-1].after_kbps
        assert there.video is not None
        assert (there.video.resolution, there.video.bitrate_kbps) == (
            own.resolution,
            own.bitrate_kbps,
        )
        assert there.quality == pytest.approx(own.quality, abs=1e-3)
        assert place.encode == "either" or len(own.platforms) == 1
    assert planned(kbps, wanted).model_dump_json() == result.model_dump_json()
    assert Plan.model_validate_json(result.model_dump_json()) == result


@settings(max_examples=7)
@given(st.floats(1500, 20_000), shows, st.floats(1.1, 8), st.integers(0, 3))
def test_raising_a_weight_never_lowers_that_quality(
    kbps: float, wanted: Show, factor: float, which: int
) -> None:
    which %= len(wanted.destinations)
    heavier = [*wanted.destinations]
    heavier[which] = heavier[which].model_copy(update={"weight": heavier[which].weight * factor})
    before = planned(kbps, wanted).destinations[which].quality or 0.0
    after = planned(kbps, wanted.model_copy(update={"destinations": tuple(heavier)}))
    assert (after.destinations[which].quality or 0.0) >= before - 2 * TABLE.tie


@given(st.integers(4, 400), st.sampled_from(PLATFORMS), st.sampled_from([Machine(), SLOW]))
def test_one_destination_on_the_grid_is_the_single_plan(
    cells: int, platform: str, machine: Machine
) -> None:
    wanted = show(Destination(platform=platform), machine=machine, safe_share=0.8)
    single = planned(cells * 50 / 0.8, wanted)  # the assumed floor is 80 % of typical
    assert single.budget.safe_kbps == pytest.approx(cells * 50, abs=0.01)
    guide = GUIDES[platform].under(None)
    division = Groupings(wanted, [guide], TABLE, cells * 50.0).best((0,))
    (there,) = single.destinations
    assert (division is None) == (there.quality is None)
    if division is not None:
        quality = division.encodes[0].outcome(division.taken[0]).quality
        assert there.quality == pytest.approx(quality, abs=TABLE.tie)


def test_clashing_rules_are_named() -> None:
    clash = joint_guide([GUIDES["oxbow"], GUIDES["fernlight"], GUIDES["gatepost"]])
    assert isinstance(clash, Clash)
    assert clash.text == "shapes: Oxbow takes 16:9, Gatepost 4:3"
    joint = joint_guide([GUIDES["oxbow"], GUIDES["fernlight"]])
    assert isinstance(joint, Guide)
    assert joint.video.max_bitrate.kbps == 6000
    assert joint.video.min_bitrate == GUIDES["fernlight"].video.min_bitrate
    assert (joint.audio.min_bitrate.kbps, joint.audio.max_bitrate.kbps) == (128, 160)
    assert joint.video.keyframes.exact == 2


def test_keyframes_that_no_interval_satisfies_clash() -> None:
    def with_keyframes(name: str, **rule: float) -> Guide:
        guide = GUIDES["oxbow"]
        keyframes = guide.video.keyframes.model_copy(update={"exact": None, **rule})
        video = guide.video.model_copy(update={"keyframes": keyframes})
        return guide.model_copy(update={"title": name, "video": video})

    clash = joint_guide([with_keyframes("A", min=3), with_keyframes("B", max=2)])
    assert isinstance(clash, Clash)
    assert (clash.rule, clash.one_says) == ("video.keyframes", "at least 3 s")
    joint = joint_guide([with_keyframes("A", min=1), with_keyframes("B", max=4)])
    assert isinstance(joint, Guide)
    assert joint.video.keyframes.chosen_seconds == 2


def test_a_slow_machine_shares_encodes() -> None:
    both = (Destination(platform="oxbow"), Destination(platform="fernlight"))
    fast = planned(60_000, show(*both))
    slow = planned(60_000, show(*both, machine=SLOW))
    assert fast.split
    assert slow.split
    assert fast.split.way == "one encode each"
    assert slow.split.way == "one encode for all"
    assert {a.way for a in slow.split.alternatives} == {"one encode for all", "one encode each"}
    video = slow.destinations[0].video
    assert video is not None
    assert video.pixels_per_second <= 1920 * 1080 * 75 * 0.6
    assert video.preset == "veryfast"
    assert "machine" in slow.destinations[0].limited_by.values()


@settings(max_examples=7)
@given(
    st.floats(2000, 60_000),
    st.sampled_from(["calm", "lively", "hectic"]),
    st.sampled_from([0.5, 1.0, 3.0]),
)
def test_an_encode_of_ones_own_never_looks_worse_than_a_shared_one(
    kbps: float, motion: str, weight: float
) -> None:
    places = (Destination(platform="oxbow", weight=weight), Destination(platform="fernlight"))
    split = planned(kbps, show(*places, motion=motion)).split
    assert split is not None
    ways = {a.way: a.quality for a in split.alternatives if a.quality is not None}
    if len(ways) == 2:
        assert (
            ways["one encode each"] >= ways["one encode for all"] - TABLE.tie - 0.02
        )  # a cell each


def test_what_does_not_fit_is_left_out_by_weight_and_said(kestrel: Kestrel) -> None:
    Path("thin.toml").write_text(
        'format = "eager-kestrel/show/3"\nsource = "1920x1080"\nsource_fps = "30"\n'
        'motion = "calm"\n[[destinations]]\nplatform = "oxbow"\nweight = 3\nmin_quality = 0.6\n'
        '[[destinations]]\nplatform = "fernlight"\nencode = "own"\n[[destinations]]\n'
        'platform = "gatepost"\nmin_quality = 0.6\n'
    )
    result = kestrel("plan", "thin.toml", "--upload", "1.6 Mbit/s", "--json")
    assert result.code == 1, result.err
    split = result.document["split"]
    assert "oxbow" not in split["left_out"]
    assert split["left_out"]
    assert "kbit/s is safe" in split["left_out_because"]
    shown = kestrel("plan", "thin.toml", "--upload", "1.6 Mbit/s")
    assert "is left out" in shown.out
    assert kestrel("plan", "thin.toml", "--upload", "120 kbit/s").code == 4


def test_the_bar_the_relay_and_the_figure(kestrel: Kestrel, tmp_path: Path) -> None:
    figure = tmp_path / "split.png"
    result = kestrel("plan", "glaze-talk", "--upload", "12 Mbit/s", "--why", "--figure", figure)
    assert result.code == 0, result.err
    bar = next(line for line in result.out.splitlines() if line.startswith("█████"))
    assert len(bar) == 100
    assert bar.count("·") == pytest.approx(100 * 0.3, abs=1)
    assert "a relay that passes on one stream" in result.out
    assert "dropping Fernlight" in result.out
    assert figure.read_bytes().startswith(b"\x89PNG")
    upright = kestrel("plan", "clay-fair", "--upload", "12 Mbit/s", "--why")
    assert "shapes: Oxbow takes 16:9, Pocketfair 9:16" in " ".join(upright.out.split())
    assert "606x1080" in upright.out
    assert "a scene laid out for that shape" in " ".join(upright.out.split())


def test_speeds_of_encoders_are_read_from_a_show() -> None:
    speed = EncoderSpeed.model_validate(
        {"codec": "h264", "preset": "fast", "holds": "1280x720 at 100"}
    )
    machine = Machine(share=0.5, encoders=(speed,))
    assert machine.preset("h264", 1280 * 720 * 50) == "fast"
    assert machine.preset("h264", 1280 * 720 * 51) is None
    assert machine.load_of("h264", "fast", 1280 * 720 * 25) == pytest.approx(0.25)
    assert machine.load_of("hevc", "fast", 1e12) == 0


@given(st.floats(800, 25_000), shows)
def test_every_offer_to_one_of_several_is_kept(kbps: float, wanted: Show) -> None:
    """Planned again as it says, it gives what it says."""
    result = planned(kbps, wanted, further=True)
    for number, there in enumerate(result.destinations):
        for offer in there.offers:
            place = wanted.destinations[number]
            if offer.kind == "upload":
                assert offer.upload_kbps is not None
                then = planned(offer.upload_kbps, wanted)
            elif offer.kind == "machine":
                then = planned(kbps, wanted.model_copy(update={"machine": Machine()}))
            else:
                key = "tier" if offer.kind == "tier" else "codec"
                changed = place.model_copy(update={key: offer.needs})
                rest = [changed if n == number else d for n, d in enumerate(wanted.destinations)]
                then = planned(kbps, wanted.model_copy(update={"destinations": tuple(rest)}))
            after = then.destinations[number]
            assert after.video is not None
            assert (after.video.resolution, after.video.frame_rate) == (
                offer.gives.resolution,
                offer.gives.frame_rate,
            )
            assert after.video.bitrate_kbps == offer.gives.bitrate_kbps
            assert after.quality is not None
            assert there.quality is not None
            assert after.quality >= there.quality + TABLE.tie - 1e-4


@settings(max_examples=7)
@given(st.floats(800, 15_000), shows, st.data())
def test_nothing_nearer_than_what_is_offered_to_one_of_several_is_better(
    kbps: float, wanted: Show, data: st.DataObject
) -> None:
    made = planned(kbps, wanted, further=True)
    number = data.draw(st.integers(0, len(wanted.destinations) - 1))
    there = made.destinations[number]
    offered = next((o.upload_kbps for o in there.offers if o.kind == "upload"), None)
    if there.quality is None or len(wanted.destinations) > FEW:
        return
    most = 3 * made.budget.safe_kbps + 12_000
    if offered is not None:
        most = made.budget.safe_of(offered) - CELL_KBPS - 1
    first = int(made.budget.safe_kbps // CELL_KBPS) + 1
    for cells in data.draw(
        st.lists(st.integers(first, max(first, int(most // CELL_KBPS))), max_size=9)
    ):
        safe = cells * CELL_KBPS + data.draw(st.sampled_from([1.0, 25.0, CELL_KBPS - 2]))
        if safe < most:
            nearer = planned(made.budget.upload_for(safe), wanted)
            assert (nearer.destinations[number].quality or 0.0) < there.quality + TABLE.tie, cells


@settings(max_examples=7)
@given(st.floats(500, 30_000), shows)
def test_what_is_left_is_of_no_use_to_any(kbps: float, wanted: Show) -> None:
    result = planned(kbps, wanted)
    assert result.split is not None
    tried = Groupings(
        wanted,
        [GUIDES[d.platform].under(d.tier) for d in wanted.destinations],
        TABLE,
        result.budget.safe_kbps,
    )
    chosen, _ = chosen_division(tried)
    if chosen is None:
        return
    for encode, choice, had in zip(chosen.encodes, chosen.taken, chosen.outcomes, strict=True):
        more = encode.outcome_at(choice, had.total_kbps + result.split.unused_kbps)
        assert more.quality <= had.quality + 1e-9


@settings(max_examples=7)
@given(st.floats(500, 20_000), st.floats(1.0, 1.5), shows)
def test_more_upload_never_makes_a_show_look_worse(kbps: float, more: float, wanted: Show) -> None:
    """Summed over all by weight; but for what an encode less is worth."""
    before, after = planned(kbps, wanted), planned(kbps * more, wanted)
    weights = relative_weights(wanted.destinations)

    def worth(result: Plan) -> float:
        pairs = zip(weights, result.destinations, strict=True)
        return sum(w * (d.quality + SERVED_WORTH) for w, d in pairs if d.quality is not None)

    spare = 2 * TABLE.tie * len(wanted.destinations)
    assert worth(after) >= worth(before) - spare


@settings(max_examples=7)
@given(st.floats(1500, 20_000), shows, st.sampled_from([0.1, 0.3, 3.0, 10.0]))
def test_only_the_ratio_of_weights_counts(kbps: float, wanted: Show, factor: float) -> None:
    scaled = tuple(d.model_copy(update={"weight": d.weight * factor}) for d in wanted.destinations)
    one = planned(kbps, wanted)
    other = planned(kbps, wanted.model_copy(update={"destinations": scaled}))
    assert [d.video for d in one.destinations] == [d.video for d in other.destinations]


FAST_AND_SLOW = Machine.model_validate(
    {
        "encoders": [
            {"codec": "h264", "preset": "veryfast", "holds": "1920x1080 at 180"},
            {"codec": "h264", "preset": "fast", "holds": "1920x1080 at 110"},
            {"codec": "h264", "preset": "medium", "holds": "1920x1080 at 70"},
        ]
    }
)


@settings(max_examples=7)
@given(st.floats(1500, 30_000), shows)
def test_presets_of_all_encodes_hold_side_by_side(kbps: float, wanted: Show) -> None:
    """Each at the preset on its card, together within the share; and none could be slower."""
    machine = FAST_AND_SLOW
    result = planned(kbps, wanted.model_copy(update={"machine": machine}))
    split = result.split
    assert split is not None
    videos = {d.name: d.video for d in result.destinations}
    loads = []
    for group in split.groups:
        video = videos[group.platforms[0]]
        assert video is not None
        assert video.preset is not None
        loads.append(machine.load_of("h264", video.preset, video.pixels_per_second))
        assert group.machine_share == pytest.approx(loads[-1] / machine.share, abs=1e-3)
    assert sum(loads) <= machine.share + 1e-6
    for reason in (r for d in result.destinations for r in d.reasons):
        if reason.setting == "resolution" and reason.limited_by == "machine":
            size, fps = re.findall(r"\d+x\d+|(?<=at )[\d.]+", reason.text)[:2]
            holds = Resolution.parse(size).pixels * float(fps) <= machine.most_pixels("h264")
            assert holds is not reason.text.startswith("this machine cannot"), reason.text


@settings(max_examples=7)
@given(st.floats(1500, 25_000), shows)
def test_an_encode_more_is_only_made_where_it_is_seen(kbps: float, wanted: Show) -> None:
    """Fewer would look worse on average, or to some destination by far; by trying every way."""
    safe = planned(kbps, wanted).budget.safe_kbps
    ruled = [GUIDES[d.platform].under(d.tier) for d in wanted.destinations]
    tried = Groupings(wanted, ruled, TABLE, safe)
    everyone = tuple(range(len(ruled)))
    chosen = tried.best(everyone)
    if chosen is None:
        return
    every = [
        d
        for g in groupings(everyone)
        if all(len(m) == 1 or wanted.destinations[i].encode != "own" for m in g for i in m)
        and not isinstance(d := tried.divided(g), str)
    ]
    best = max(every, key=lambda d: d.worth).best_looks()
    total = sum(tried.weights)

    def worse(own: dict[int, float]) -> tuple[float, float]:
        losses = {m: best[m] - own[m] for m in own}
        return sum(tried.weights[m] * x for m, x in losses.items()) / total, max(losses.values())

    for division in every:
        mean, most = worse(division.looks())
        if division is chosen:
            assert mean <= TABLE.tie + 1e-9
            assert most <= 3 * TABLE.tie + 1e-9
        elif len(division.grouping) < len(chosen.grouping):
            assert mean > TABLE.tie or most > 3 * TABLE.tie


def test_a_slower_preset_buys_resolution() -> None:
    """It is counted as its measured share of bitrate, and said."""
    place = Destination(platform="oxbow")
    held = {"holds": "1920x1080 at 300", "codec": "h264"}
    plans = {
        preset: planned(
            4000,
            show(place, machine=Machine.model_validate({"encoders": [{**held, "preset": preset}]})),
        )
        for preset in ("ultrafast", "veryfast", "medium")
    }
    looks = [p.destinations[0].quality or 0.0 for p in plans.values()]
    assert looks[0] < looks[1] <= looks[2] + TABLE.tie
    text = next(r.text for r in plans["ultrafast"].destinations[0].reasons if r.setting == "preset")
    assert "more bitrate than veryfast for the same quality" in text


def test_pieces_bound_the_keyframes_of_a_shared_encode() -> None:
    """A piece begins with a keyframe, also where only one of the two sends pieces."""
    hourly = GUIDES["oxbow"].video.model_copy(
        update={"keyframes": Keyframes(min=1.0, max=4.0, recommended=3.0)}
    )
    slow = GUIDES["oxbow"].with_rules({"video": hourly})
    pieces = GUIDES["fernlight"].with_rules({"transports": ("hls",), "segments": Segments(max=2.0)})
    for pair in ((slow, pieces), (pieces, slow)):
        joint = joint_guide(pair)
        assert isinstance(joint, Guide)
        assert joint.video.keyframes.chosen_seconds <= 2.0
    only = slow.with_rules({"video": hourly.model_copy(update={"keyframes": Keyframes(exact=3)})})
    clash = joint_guide([only, pieces])
    assert isinstance(clash, Clash)
    assert "pieces of at most 2 s" in clash.text


@settings(max_examples=6)
@given(
    st.sampled_from(["glaze-talk", "clay-fair"]),
    st.sampled_from(["1280x720", "1920x1080", "960x540", "540x960"]),
)
def test_need_answers_for_the_whole_show(name: str, resolution: str) -> None:
    """Planning the show with what it says gives a look that differs by no more than the band."""
    from eager_kestrel import load_show
    from eager_kestrel.actions.what_if import need

    wanted = load_show(name)
    found = need(wanted, [Resolution.parse(resolution)])
    platforms = [place.platform for place in wanted.destinations]
    assert {answer.platform for answer in found.needs} == set(platforms)
    for answer in found.needs:
        at = platforms.index(answer.platform)
        if answer.from_kbps is not None and answer.from_gives is not None:
            there = planned(answer.from_kbps, wanted).destinations[at]
            assert there.quality is not None
            assert abs(there.quality - answer.from_gives.quality) <= 2 * TABLE.tie
        if answer.chosen_from_kbps is not None:
            video = planned(answer.chosen_from_kbps, wanted).destinations[at].video
            assert video is not None
            assert str(video.resolution) == resolution


def test_a_sweep_of_a_show_is_of_all_its_destinations(kestrel: Kestrel) -> None:
    swept = kestrel("plan", "glaze-talk", "--sweep", "upload=2..14", "--json").document
    assert swept["platform"] == "oxbow"
    (beside,) = swept["beside"]
    assert beside["platform"] == "fernlight"
    for number in (10, 40, 70):
        point = swept["points"][number]
        rate = f"{point['value'] * 1000:.0f} kbit/s"
        made = kestrel("plan", "glaze-talk", "--upload", rate, "--json").document
        both = (point["chosen"], beside["chosen"][number])
        for there, chosen in zip(made["destinations"], both, strict=True):
            assert (chosen is None) is (there["video"] is None)
            if chosen is not None:
                assert there["video"]["width"] == chosen["width"]
                assert there["video"]["bitrate_kbps"] == pytest.approx(
                    chosen["bitrate_kbps"], abs=100
                )
    shown = kestrel("plan", "glaze-talk", "--sweep", "upload=2..14").out
    assert "oxbow" in shown
    assert "fernlight" in shown
