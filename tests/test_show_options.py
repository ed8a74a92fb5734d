"""What people insist on, what their data allows, when they stream; and ways to ask."""

from __future__ import annotations

import json
import shlex
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.checking import check, settings_from
from eager_kestrel.actions.planning import plan, uplink_from_number
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.choice.candidates import LEGIBLE_PIXELS
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.plan.plan import DestinationPlan
from eager_kestrel.core.resolution import parse_frame_rate
from eager_kestrel.core.show.show import ON_THE_WIRE, Show
from tests.conftest import Kestrel, timed
from tests.test_recordings import (
    CONSTANT,
    Make,
    made as made,  # the fixture
)
from tests.test_runs import at, kept

UPLOAD = ("--upload", "9 Mbit/s")


@given(
    upload=st.floats(1.5, 40),
    rate=st.sampled_from(["60", "30"]),
    resolution=st.sampled_from(["1920x1080", "1280x720", "960x540"]),
)
def test_a_pinned_resolution_is_sent_and_its_cost_is_true(
    upload: float, rate: str, resolution: str
) -> None:
    def planned(**wishes: str) -> tuple[DestinationPlan, tuple[str, ...]]:
        show = asked_show(None, ShowOptions(platforms=("oxbow",), **wishes)).show  # type: ignore[arg-type]
        found = plan(show, uplink_from_number(f"{upload:.3f} Mbit/s"))
        return found.plan.destinations[0], found.notes

    there, notes = planned(resolution=resolution, fps=rate)
    free, none = planned()
    assert none == ()
    if there.video is None:
        return
    assert str(there.video.resolution) == resolution
    assert float(there.video.frame_rate) == float(rate)
    assert (there.quality or 0) <= (free.quality or 0) + 0.02
    assert free.video is not None
    same = (free.video.resolution, free.video.frame_rate) == (
        there.video.resolution,
        there.video.frame_rate,
    )
    assert (notes == ()) == same
    if notes:
        assert free.video.text in notes[0]
    wished = {one.setting: one.limited_by for one in there.reasons}
    assert wished["resolution"] == wished["frame_rate"] == "wish"
    for step in there.fallbacks:
        assert str(step.video.resolution) == resolution


@given(
    upload=st.floats(0.8, 20),
    text=st.floats(8, 60),
    platform=st.sampled_from(["oxbow", "pocketfair", "fernlight"]),
    fit=st.sampled_from(["crop", "pad"]),
)
def test_letters_stay_legible_and_it_is_said_when_that_binds(
    upload: float, text: float, platform: str, fit: str
) -> None:
    """Nothing that is sent, and no fallback, has letters below the limit; loosen it and see."""

    def planned(**wishes: str) -> tuple[Show, DestinationPlan]:
        asked = ShowOptions(platforms=(platform,), fit=fit, **wishes)  # type: ignore[arg-type]
        show = asked_show(None, asked).show
        made = plan(show, uplink_from_number(f"{upload:.3f} Mbit/s")).plan
        return show, made.destinations[0]

    show, there = planned(smallest_text=f"{text:.2f} px")
    _, free = planned()
    if there.video is None:
        return
    for video in (there.video, *(step.video for step in there.fallbacks)):
        across = video.resolution.width / show.source.width
        down = video.resolution.height / show.source.height
        scale = max(across, down) if fit == "crop" else min(across, down)
        assert round(text, 2) * scale >= LEGIBLE_PIXELS
    assert free.video is not None
    bound = {reason.setting: reason.limited_by for reason in there.reasons}["resolution"]
    assert (bound == "content") == (free.video.resolution != there.video.resolution)


@pytest.mark.parametrize("rate", ["25i", "50i", "29.97i"])
def test_an_interlaced_source_is_planned_by_its_fields(kestrel: Kestrel, rate: str) -> None:
    asked = ("plan", "--for", "oxbow", *UPLOAD)
    made = kestrel(*asked, "--source-fps", rate, "--json").document
    fields = {"25i": 50, "50i": 50, "29.97i": 60000 / 1001}[rate]
    assert made["inputs"]["source_fps"] == pytest.approx(fields, abs=0.01)
    video = made["destinations"][0]["video"]
    assert video["fps"] in (pytest.approx(fields, abs=0.01), pytest.approx(fields / 2, abs=0.01))
    assert video["deinterlace"] == ("field" if video["fps"] > 45 else "frame")
    said = " ".join(kestrel(*asked, "--source-fps", rate).out.split())
    assert f"deinterlace first, to one frame of each {video['deinterlace']}" in said
    for program, word in (("ffmpeg", "bwdif=mode=send_"), ("gstreamer", "deinterlace fields=")):
        assert word in kestrel(*asked, "--source-fps", rate, "--command", program).out
        assert word not in kestrel(*asked, "--source-fps", "50", "--command", program).out
    Path("show.toml").write_text(
        f'''format = "eager-kestrel/show/3"
source = "1920x1080"
source_fps = "{rate}"
motion = "lively"
[[destinations]]
platform = "oxbow"
'''
    )
    again = kestrel("plan", *UPLOAD, "--json").document
    assert again["destinations"][0]["video"] == video
    assert kestrel(*asked, "--source-fps", "xi").code == 2


def test_a_resolution_that_is_not_taken_is_refused_with_those_that_are(kestrel: Kestrel) -> None:
    assert (
        "it takes up to 1920x1080, 16:9"
        in kestrel("plan", "--for", "oxbow", *UPLOAD, "--resolution", "1200x700").error_line
    )
    assert (
        "it takes up to 60 fps"
        in kestrel("plan", "--for", "oxbow", *UPLOAD, "--fps", "75").error_line
    )


@given(cap=st.floats(5, 900), hours=st.floats(1, 300), upload=st.floats(3, 30))
def test_a_month_within_its_cap(cap: float, hours: float, upload: float) -> None:
    def total(**wishes: object) -> float:
        show = asked_show(None, ShowOptions(platforms=("oxbow",), **wishes)).show  # type: ignore[arg-type]
        made = plan(show, uplink_from_number(f"{upload:.3f} Mbit/s")).plan
        if wishes and made.budget.capped:
            assert made.budget.steps[-1].name == "data cap"
            assert made.destinations[0].offers == ()
            month = made.total_kbps * 125 * 3600 * hours * ON_THE_WIRE
            assert month <= cap * 1e9 * 1.001
        return made.total_kbps

    free, capped = total(), total(cap=f"{cap:.4f} GB", hours=f"{hours:.3f}")
    assert capped <= free
    if capped < free and capped > 0:
        assert free * 125 * 3600 * hours * ON_THE_WIRE > cap * 1e9 * 0.8


def test_without_hours_a_cap_says_how_long_it_lasts(kestrel: Kestrel) -> None:
    found = kestrel("plan", "--for", "oxbow", *UPLOAD, "--cap", "60 GB", "--json").document
    lasts = found["data"]["cap_lasts_hours"]
    assert not found["budget"]["capped"]
    assert lasts * found["total_kbps"] * 125 * 3600 * ON_THE_WIRE == pytest.approx(60e9, rel=0.01)
    assert "60 GB a month lasts" in " ".join(
        kestrel("plan", "--for", "oxbow", *UPLOAD, "--cap", "60 GB").out.split()
    )


@given(
    st.sampled_from(["oxbow", "fernlight", "pocketfair", "gatepost"]),
    st.sampled_from(["1920x1080", "1280x720", "720x1280", "640x480", "1000x1000"]),
    st.sampled_from(["24", "25", "23.976", "29.97", "30", "50", "59.94", "60", "144"]),
    st.sampled_from(["1920x1080", "1280x720", "720x1280", "640x480", "848x480", "641x360"]),
    st.sampled_from(["24", "25", "23.976", "29.97", "30", "59.94", "60", "75"]),
)
def test_what_is_insisted_on_is_sent_if_the_platform_takes_it(
    platform: str, source: str, fps: str, resolution: str, rate: str
) -> None:
    """Whatever the source: what ``check`` calls a breach is refused, and nothing else is."""
    wishes: dict[str, str] = {"source": source, "source_fps": fps}
    pins = {"resolution": resolution, "fps": rate}
    asked = ShowOptions(platforms=(platform,), **wishes, **pins)  # type: ignore[arg-type]
    settings = settings_from(None, {"video": {"resolution": resolution, "frame_rate": rate}}, "")
    rules = ("video.shapes", "video.resolutions", "video.max_resolution", "video.frame_rates")
    breaches = [
        one.rule
        for one in check(settings, [platform]).findings
        if one.severity == "breach" and one.rule in (*rules, "sides divisible by 8")
    ]
    try:
        made = plan(asked_show(None, asked).show, uplink_from_number("40 Mbit/s")).plan
    except InputError:
        assert breaches
        return
    assert not breaches
    video = made.destinations[0].video
    if video is not None:
        assert str(video.resolution) == resolution
        assert round(video.frame_rate) == round(parse_frame_rate(rate))


def test_days_of_the_week_count_where_there_are_runs(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(*(at(20, kbps, day) for day, kbps in ((5, 4000), (12, 4100), (6, 9000), (13, 9100))))
    show = tmp_path / "show.toml"

    def planned(days: str) -> tuple[dict[str, Any], str]:
        show.write_text(
            'format = "eager-kestrel/show/3"\nsource = "1280x720"\nsource_fps = "30"\n'
            f'motion = "calm"\n{days}\n[[destinations]]\nplatform = "oxbow"\n'
        )
        said = kestrel("plan", show, "--days", "3650", "--json")
        return said.document["uplink"], said.err

    thursdays, said = planned('days = ["Thursday"]')  # the 5th and 12th of November 2026
    assert 3900 < thursdays["typical_kbps"] < 4200
    assert "taken on Thursday" in thursdays["text"]
    assert said == ""
    hours = kestrel("runs", "hours", show, "--json").document
    assert hours["hours"][0]["typical_kbps"] == thursdays["typical_kbps"]
    assert hours["text"] == "only runs taken on Thursday count"
    assert hours["hours"][0]["gets"][0]["platform"] == "oxbow"
    assert "2 runs" in kestrel("forecast", show, "--days", "3650", "--json").document["evidence"]
    both, _ = planned("")
    assert both["typical_kbps"] > thursdays["typical_kbps"]
    none, said = planned('days = ["Monday"]')
    assert none["typical_kbps"] == both["typical_kbps"]
    assert "fewer than two runs were taken on Monday" in said
    anyhow = kestrel("runs", "hours", show, "--json").document
    assert "fewer than two runs were taken on Monday" in anyhow["text"]
    assert anyhow["hours"][0]["typical_kbps"] == both["typical_kbps"]
    assert "days" in planned_fault(kestrel, show)


def planned_fault(kestrel: Kestrel, show: Path) -> str:
    show.write_text(show.read_text().replace('"Monday"', '"Frogday"'))
    return kestrel("plan", show, *UPLOAD).error_line


@timed
def test_all_destinations_are_rehearsed_at_once(kestrel: Kestrel, tmp_path: Path) -> None:
    show = ("--for", "oxbow", "--for", "gatepost", "--source", "640x360", "--source-fps", "25")
    total = kestrel("plan", *show, "--upload", "2.5 Mbit/s", "--json").document["total_kbps"]
    wide = kestrel("rehearse", "--practice", f"{2 * total:.0f} kbit/s", "--seconds", "3", "--json")
    found = wide.document
    assert [one["platform"] for one in found["rehearsals"]] == ["oxbow", "gatepost"]
    assert found["held"]
    assert wide.code == 0
    narrow = kestrel("rehearse", "--practice", f"{0.5 * total:.0f} kbit/s", "--seconds", "6")
    assert narrow.code == 1
    assert "Sent together, oxbow and gatepost did not hold" in narrow.out
    for asked, said in (
        (("--settle",), "--for oxbow"),
        (("--figure", "x.png"), "--for oxbow"),
        (("--to", "rtmp://a.example/live"), "--to oxbow=rtmp://HOST/APP"),
        (("--to", "oxbow=rtmp://a.example/live"), "no address for gatepost"),
        (("--to", "fen=rtmp://a.example/live"), "no settings for fen"),
    ):
        line = () if "--to" in asked else ("--practice", "9 Mbit/s")
        assert said in kestrel("rehearse", *line, *asked).error_line
    assert (
        "holds one destination"
        in kestrel("plan", *show, *UPLOAD, "--out", tmp_path / "p.toml").error_line
    )
    both = kestrel("plan", *show, *UPLOAD, "--command", "ffmpeg").out.splitlines()
    assert [line[:2] for line in both] == ["# ", "ff", "# ", "ff"]


@timed
def test_settings_are_rehearsed(kestrel: Kestrel, tmp_path: Path) -> None:
    wish = ("--for", "oxbow", "--upload", "2 Mbit/s", "--source", "640x360", "--source-fps", "30")
    kestrel("plan", *wish, "--out", tmp_path / "s.toml")
    planned = kestrel("plan", *wish, "--json").document["destinations"][0]
    held = kestrel(
        "rehearse",
        tmp_path / "s.toml",
        "--for",
        "oxbow",
        "--practice",
        "4 Mbit/s",
        "--seconds",
        "2",
        "--json",
    )
    assert held.code == 0
    assert held.document["rehearsals"][0]["total_kbps"] == pytest.approx(
        planned["total_kbps"], rel=0.01
    )
    assert (
        "--for PLATFORM"
        in kestrel("rehearse", tmp_path / "s.toml", "--practice", "4 Mbit/s").error_line
    )


def test_settings_are_read_off_a_recording_and_held_to_the_plan(
    kestrel: Kestrel, made: Make, tmp_path: Path
) -> None:
    file = made("a.flv", *CONSTANT)
    assert kestrel("check", file, "--settings-out", tmp_path / "s.toml").code == 0
    assert (
        "already exists" in kestrel("check", file, "--settings-out", tmp_path / "s.toml").error_line
    )
    by_file = kestrel("check", tmp_path / "s.toml", "--for", "oxbow", "--json").document["findings"]
    seen = kestrel("check", file, "--for", "oxbow", "--json").document["findings"]
    rules = {one["rule"]: one["found"] for one in seen}
    assert by_file
    assert all(rules.get(one["rule"], one["found"]) == one["found"] for one in by_file)
    kestrel("plan", "--for", "oxbow", *UPLOAD, "--source", "1920x1080")
    held = kestrel("check", file, "--plan", "latest", "--json")
    found = {one["rule"]: one for one in held.document["findings"] if one["platform"] == "plan"}
    assert found["resolution"]["severity"] == "breach"
    assert found["resolution"]["wanted"] == "1920x1080"
    assert held.code == 1


def test_a_guess_of_a_guide_breaks_nothing_and_says_so(kestrel: Kestrel, tmp_path: Path) -> None:
    page = tmp_path / "page.csv"
    page.write_text("Resolution,Recommended bitrate\n1920x1080,6000-8000 kbps\n")
    folder = tmp_path / "guides"
    assert (
        kestrel(
            "guides",
            "import",
            page,
            *shlex.split("--name millrace --accept all --out"),
            folder / "millrace.toml",
        ).code
        == 1
    )
    asked = ("--guides", folder, "--for", "millrace")
    there = kestrel("plan", *asked, "--upload", "30 Mbit/s", "--json").document["destinations"][0]
    assert {"bitrate", "audio", "keyframes"} <= set(there["unverified"])
    assert "unverified" in next(r["text"] for r in there["reasons"] if r["setting"] == "bitrate")
    over = kestrel(
        "check", *asked, "--bitrate", "9 Mbit/s", "--audio-bitrate", "320 kbit/s", "--json"
    )
    assert over.code == 0
    assert all(
        "unverified" in one["wanted"]
        for one in over.document["findings"]
        if one["severity"] == "caution" and one["rule"] != "uplink"
    )
    text = (folder / "millrace.toml").read_text()
    line = next(line for line in text.splitlines() if line.startswith("unverified"))
    (folder / "millrace.toml").write_text(text.replace(line, ""))
    sure = kestrel("check", *asked, "--bitrate", "9 Mbit/s", "--json")
    assert sure.code == 1


def test_runs_side_by_side(kestrel: Kestrel) -> None:
    kept(at(20, 9_000, 1), at(20, 4_000, 2), at(20, 9_010, 3))
    first, second, third = (row["id"] for row in kestrel("runs", "list", "-j").document["runs"])
    apart = kestrel("runs", "compare", first, second, "--json").document
    assert len(apart["runs"]) == 2
    assert "more than chance" in apart["text"]
    shown = kestrel("runs", "compare", first, second, third).out
    assert "9 Mbit/s" in shown
    assert "name two or three" in kestrel("runs", "compare", first).error_line


@pytest.mark.parametrize(
    ("text", "options", "moments", "said"),
    [
        ("date;upload\n20.11.2026 20:15;12,5 Mbit/s\n", (), ["2026-11-20T20:15"], ""),
        ("date,upload\n20.11.2026 20:15,12.5 Mbit/s\n", (), ["2026-11-20T20:15"], ""),
        ("date,upload\n03/11/2026 20:15,9 Mbit/s\n", (), [], "--dates dd/mm"),
        (
            "date,upload\n03/11/2026 20:15,9 Mbit/s\n",
            ("--dates", "dd/mm"),
            ["2026-11-03T20:15"],
            "",
        ),
        (
            "date,upload\n03/11/2026 20:15,9 Mbit/s\n",
            ("--dates", "mm/dd"),
            ["2026-03-11T20:15"],
            "",
        ),
        ("date,upload\n31.02.2026,9 Mbit/s\n", (), [], "is not a time"),
        ("date,upload\n3/4/2026,9 Mbit/s\n", ("--dates", "yy"), [], "write dd/mm"),
    ],
)
def test_dates_as_people_write_them(
    kestrel: Kestrel,
    tmp_path: Path,
    text: str,
    options: tuple[str, ...],
    moments: list[str],
    said: str,
) -> None:
    (tmp_path / "r.csv").write_text(text)
    found = kestrel("runs", "import", tmp_path / "r.csv", *options)
    assert said in found.err
    rows = kestrel("runs", "list", "--json").document["runs"]
    assert [row["taken_at"][:16] for row in rows] == moments


class Person:
    """Somebody at a terminal who says yes or no."""

    def __init__(self, answer: str) -> None:
        self.answer = answer

    def isatty(self) -> bool:
        return True

    def readline(self) -> str:
        return self.answer + "\n"


def test_a_bare_upload_is_asked_about_where_somebody_is(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    wish = ("plan", "--for", "oxbow", "--upload", "10", "--json")
    assert "10 has no unit" in kestrel(*wish).error_line
    monkeypatch.setattr(sys, "stdin", Person("y"))
    assert kestrel(*wish).document["uplink"]["typical_kbps"] == 10_000
    monkeypatch.setattr(sys, "stdin", Person("n"))
    assert kestrel(*wish).code == 2


def test_quiet_leaves_talk_out_and_nothing_else(kestrel: Kestrel, tmp_path: Path) -> None:
    (tmp_path / "show.toml").write_text(
        'format = "eager-kestrel/show/3"\nsource = "1280x720"\nsource_fps = "30"\n'
        'motion = "calm"\n[[destinations]]\nplatform = "oxbow"\n'
    )
    loud = kestrel("plan", *UPLOAD, "--json")
    quiet = kestrel("plan", *UPLOAD, "-q", "-j")
    assert "the show is that of" in loud.err
    assert quiet.err == ""
    same = [json.loads(one.out)["destinations"] for one in (loud, quiet)]
    assert same[0] == same[1]
    assert kestrel("plan", "nowhere", "-q").error_line  # errors are no talk
    assert "the show is that of" in kestrel("plan", *UPLOAD).err  # and it is over with the command


@pytest.mark.parametrize(
    ("option", "typed", "wanted"),
    [("--motion", "li", "lively"), ("--codec", "he", "hevc"), ("--audio", "vo", "voice")],
)
def test_choices_are_completed(option: str, typed: str, wanted: str) -> None:
    from typer.main import get_command

    from eager_kestrel.cli import plan as module

    command = get_command(module.app)
    (parameter,) = [one for one in command.params if option in one.opts]
    found = parameter.shell_complete(None, typed)  # type: ignore[arg-type]
    assert [item.value for item in found] == [wanted]


@pytest.mark.parametrize(
    ("short", "long"),
    [
        (("--source", "1080p60"), ("--source", "1920x1080", "--source-fps", "60")),
        (("--source", "1280x720@50"), ("--source", "1280x720", "--source-fps", "50")),
        (("--resolution", "720p30"), ("--resolution", "1280x720", "--fps", "30")),
    ],
)
def test_the_same_in_other_words_is_the_same_plan(
    kestrel: Kestrel, short: tuple[str, ...], long: tuple[str, ...]
) -> None:
    plans = [
        kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s", *words, "--json").document
        for words in (short, long)
    ]
    for planned in plans:
        planned.pop("made_at")
    assert plans[0] == plans[1]


def test_an_address_is_one_wherever_it_is_written(kestrel: Kestrel) -> None:
    for words in (("--to",), ()):
        found = kestrel("measure", *words, "http://127.0.0.1:9/up")
        assert found.code == 3
        assert "nothing listens there" in found.err
