"""Show files, the conversation that writes one, and words explained with one's own numbers."""

from __future__ import annotations

import io
import json
import shlex
import sys
import tomllib
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.reporting import glossary
from eager_kestrel.actions.shows import MOTION_CHOICES
from eager_kestrel.core.errors import printable
from eager_kestrel.core.plan.glossary import explained, numbers_of
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings.table import SETTINGS
from eager_kestrel.core.show.machine import EncoderSpeed, Machine, parse_pace
from eager_kestrel.core.show.show import Destination, Reserve, Show
from eager_kestrel.core.stutter import Standstills, StutterSeen
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.shows import show_toml
from eager_kestrel.files.toml import read_model
from tests.conftest import Kestrel

UPLOAD = ("--upload", "12 Mbit/s")


@pytest.mark.parametrize("name", ["wheel-night", "glaze-talk", "kiln-watch", "clay-fair"])
def test_the_bundled_shows_plan(kestrel: Kestrel, name: str) -> None:
    result = kestrel("plan", name, *UPLOAD, "--json")
    assert result.code == 0, result.err
    document = result.document
    assert document["inputs"]["title"].lower().replace(" ", "-") == name
    assert (document["split"] is None) == (len(document["destinations"]) == 1)
    assert kestrel("need", name).code == 0


def test_the_show_of_this_folder_is_taken_and_said(kestrel: Kestrel, tmp_path: Path) -> None:
    Path("show.toml").write_text(
        'format = "eager-kestrel/show/3"\nsource = "1280x720"\nsource_fps = "30"\n'
        'motion = "calm"\nviewers = "2 Mbit/s"\n[[destinations]]\nplatform = "oxbow"\n'
    )
    result = kestrel("plan", *UPLOAD, "--json")
    assert result.code == 0
    assert "the show is that of ./show.toml" in result.err
    (there,) = result.document["destinations"]
    assert there["payload_kbps"] <= 2000 < there["total_kbps"]
    assert there["limited_by"]["bitrate"] == "viewers"
    over = kestrel("plan", *UPLOAD, "--viewers", "1 Mbit/s", "--motion", "hectic", "--json")
    assert over.document["destinations"][0]["payload_kbps"] <= 1000
    assert over.document["inputs"]["motion"] == "hectic"
    named = kestrel("plan", "--for", "gatepost", *UPLOAD, "--json")
    assert named.document["inputs"]["source_width"] == 1920  # flags alone: not the file's show


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('motoin = "calm"', 'write "motion"'),
        ('motion = "busy"', "motion"),
        ("safe_share = 70", "per cent"),
        ('viewers = "2"', "write 2 Mbit/s or 2 kbit/s"),
        ('[machine]\n[[machine.encoders]]\ncodec = "h264"\npreset = "x"\nholds = "fast"', "at 110"),
        ("[[destinations]]\nweight = 2", "platform"),
        ('[[destinations]]\nplatform = "oxbow"\nweight = 0', "weight"),
    ],
)
def test_a_broken_show_names_the_line(kestrel: Kestrel, text: str, says: str) -> None:
    whole = 'source = "1280x720"\nsource_fps = "30"\n'
    whole += "" if text.startswith("motion") else 'motion = "calm"\n'
    place = "" if "[destinations]" in text else '[[destinations]]\nplatform = "oxbow"\n'
    top = "" if text.startswith("[") else f"{text}\n"
    tables = f"{text}\n" if text.startswith("[") else ""
    Path("bad.toml").write_text(f'format = "eager-kestrel/show/3"\n{top}{whole}{place}{tables}')
    result = kestrel("plan", "bad.toml", *UPLOAD)
    assert result.code == 2
    assert result.error_line.startswith("eager-kestrel: bad.toml")
    assert says in result.error_line


def test_unknown_shows_suggest(kestrel: Kestrel) -> None:
    assert 'write "wheel-night"' in kestrel("plan", "wheelnight", *UPLOAD).error_line
    assert "no such file" in kestrel("plan", "none.toml", *UPLOAD).error_line
    assert "eager-kestrel start" in kestrel("plan", *UPLOAD).error_line


rates = st.integers(1, 9000).map(lambda k: Bitrate(k * 1000))
whole_shows = st.builds(
    Show,
    title=st.text(st.characters(codec="utf-8", exclude_categories=["C"]), max_size=20),
    source=st.builds(Resolution, st.integers(16, 4000), st.integers(16, 4000)),
    source_fps=st.sampled_from(["60", "29.97", "25", "12.5"]),
    motion=st.sampled_from([*MOTION_CHOICES]),
    audio=st.sampled_from(["voice", "music"]),
    viewers=st.none() | rates,
    hours_a_month=st.floats(0.5, 744),
    safe_share=st.integers(1, 100).map(lambda n: n / 100),
    reserves=st.lists(
        st.builds(Reserve, name=st.text(max_size=9).map(printable), rate=rates), max_size=3
    ).map(tuple),
    machine=st.just(Machine())
    | st.builds(
        lambda n: Machine(
            share=0.5,
            encoders=(
                EncoderSpeed(codec="h264", preset="p", holds=parse_pace(f"1280x720 at {n}")),
            ),
        ),
        st.integers(1, 480),
    ),
    destinations=st.lists(
        st.builds(
            Destination,
            platform=st.sampled_from(["oxbow", "a-b"]),
            weight=st.floats(0.1, 100),
            min_quality=st.floats(0, 1),
        ),
        min_size=1,
        max_size=3,
    ).map(tuple),
)


@given(whole_shows)
def test_a_show_is_written_and_read_back_the_same(wanted: Show) -> None:
    text = show_toml(wanted)
    again = read_model(text.encode(), Show, "show", "x")
    assert again.model_dump() == wanted.model_dump()


def test_start_without_questions(kestrel: Kestrel) -> None:
    result = kestrel(
        *shlex.split("start --yes --for oxbow:hearth --motion calm --reserve"),
        "video call=1.5 Mbit/s",
        "--title",
        "Pot luck",
        *UPLOAD,
    )
    assert result.code == 0, result.err
    assert "Pot luck on Oxbow (hearth)" in result.out
    text = Path("show.toml").read_text()
    assert "# still, calm, lively or hectic" in text
    assert "Pot luck on Oxbow" in kestrel("explain", "bitrate").out  # it is the latest plan
    document = tomllib.loads(text)
    assert document["reserves"] == [{"name": "video call", "rate": "1500 kbit/s"}]
    again = kestrel("start", "--yes", "--for", "oxbow")
    assert again.code == 2
    assert "already exists" in again.error_line
    assert Path("show.toml").read_text() == text
    assert "no plan yet" in kestrel("start", "--yes", "--for", "oxbow", "--out", "b.toml").err


@pytest.mark.parametrize(
    ("options", "says"),
    [
        (("--for", "oxbow"), "--yes"),
        (("--yes",), "give --for PLATFORM"),
        (("--yes", "--for", "oxbw"), 'write "oxbow"'),
        (("--yes", "--for", "oxbow", "--out", "a.txt"), "name it .toml"),
        (("--yes", "--for", "oxbow", "--motion", "wild"), "choose from"),
    ],
)
def test_start_refuses_in_one_line(kestrel: Kestrel, options: tuple[str, ...], says: str) -> None:
    result = kestrel("start", *options)
    assert result.code == 2
    assert says in result.error_line
    assert not Path("show.toml").exists()


class Person(io.StringIO):
    def isatty(self) -> bool:
        return True


def test_the_conversation_asks_again_and_offers_reserves(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch
) -> None:
    answers = [
        "Wheel night",
        "wild",
        "hectic",
        "1080",
        "1920x1080",
        "",
        "",
        "oxbw",
        "oxbow, pocketfair",
        "soon",
        "20:00",
        "noday",
        "Thu, saturday",
        "1, 9",
        "1, game=0.5 Mbit/s",
        "60",
        "60 %",
    ]
    monkeypatch.setattr(sys, "stdin", Person("\n".join(answers) + "\n"))
    result = kestrel("start", *UPLOAD)
    assert result.code == 0, result.err
    for said in (
        "a person at a table",
        "choose from",
        "write both sides",
        'write "oxbow"',
        "not a time of day",
        "there is no number 9",
        "per cent sign",
    ):
        assert said in result.err
    document = tomllib.loads(Path("show.toml").read_text())
    assert document["motion"] == "hectic"
    assert document["at"] == "20:00"
    assert document["days"] == ["Thursday", "Saturday"]
    assert document["safe_share"] == "60 %"
    assert [r["name"] for r in document["reserves"]] == ["a video call", "game"]
    assert [d["platform"] for d in document["destinations"]] == ["oxbow", "pocketfair"]
    assert "It begins at 20:00." in result.err
    assert "to oxbow and pocketfair at 20:00 on Thursday, Saturday" in result.err
    assert document["upload"]
    assert kestrel("plan", "--json").document["uplink"]["basis"] == "assumed"
    again = ["y", "Glaze talk", "calm", "", "30", "", "oxbow", "-", "-", "-", "", "8", "y"]
    monkeypatch.setattr(sys, "stdin", Person("\n".join(again) + "\n"))
    other = kestrel("start")
    assert other.code == 0, other.err
    assert "already exists; replace it" in other.err
    assert "8 Mbit/s?" in other.err
    assert tomllib.loads(Path("show.toml").read_text())["title"] == "Glaze talk"
    monkeypatch.setattr(sys, "stdin", Person("n\n"))
    assert "already exists" in kestrel("start").err
    assert tomllib.loads(Path("show.toml").read_text())["title"] == "Glaze talk"


def test_words_are_explained_with_the_latest_plan(kestrel: Kestrel) -> None:
    before = kestrel("explain", "keyframes")
    assert before.code == 0
    assert "→" not in before.out
    assert kestrel("plan", "wheel-night", *UPLOAD).code == 0
    after = kestrel("explain", "Keyframe", "interval", "--json").document
    assert after["sum"] == "120 frames / 60 frames a second = 2 s"
    assert after["source"] == "your latest plan: Wheel night on Oxbow"
    assert "6,500 beside the reserves; safe: 6,500 kbit/s" in kestrel("explain", "budget").out
    assert "perhaps keyframe interval" in kestrel("explain", "keyfame").error_line
    assert "perhaps bitrate or buffer" in kestrel("explain", "bitrate or buffer").error_line
    assert kestrel("explain", "zzz").code == 2
    assert "keyframe interval" in kestrel("explain").out
    assert "judder" in json.loads(kestrel("explain", "--json").out)["terms"]


@pytest.mark.parametrize(
    ("asked", "about"),
    [
        ("my stream is laggy", "stutters"),
        ("my viewers see it late", "delay"),
        ("pixelated", "blurry"),
        ("green is fine but viewers complain", "buffering"),
        ("my stream keeps disconnecting", "disconnects"),
        ("why is it frozen?", "stutters"),
        ("cbr", "constant bitrate"),
        ("what bitrate do I need", "bitrate"),
        ("why keyframes", "keyframe interval"),
        ("why", "limited by"),
    ],
)
def test_questions_find_the_word_they_are_about(kestrel: Kestrel, asked: str, about: str) -> None:
    assert kestrel("explain", *asked.split(), "--json").document["term"] == about


def test_why_a_number_is_the_setting_that_has_it(kestrel: Kestrel) -> None:
    made = kestrel("plan", "wheel-night", *UPLOAD, "--json").document
    settings = {"resolution", "frame_rate", "bitrate", "audio_bitrate"}
    for reason in made["destinations"][0]["reasons"]:
        if reason["setting"] in settings:
            found = kestrel("explain", "why", reason["value"].split()[0], "--json").document
            assert found["reason"].startswith(f"{reason['value']}: "), reason


@pytest.mark.parametrize(
    "symptom", ["buffering", "dropped frames", "blurry", "stutters", "disconnects", "delay"]
)
def test_a_symptom_has_causes_and_commands_that_are_there(kestrel: Kestrel, symptom: str) -> None:
    assert kestrel("explain", symptom, "--json").document["source"] is None
    assert kestrel("plan", "wheel-night", *UPLOAD).code == 0
    found = kestrel("explain", *symptom.split(), "--json").document
    assert len(found["causes"]) >= 3
    assert found["source"] is not None
    for cause in found["causes"]:
        words = cause["tell"].split(",")[0].split()
        assert words[0] == "eager-kestrel"
        assert kestrel(words[1], "--help").code == 0
        assert cause["because"] in " ".join(kestrel("explain", symptom).out.split())


def test_every_sum_works_out_and_no_word_is_claimed_twice(kestrel: Kestrel) -> None:
    document = kestrel("plan", "wheel-night", *UPLOAD, "--json").document
    seen = StutterSeen(
        observed_seconds=600,
        seconds=1,
        number=1,
        worst_queue_seconds=1,
        seconds_per_hour=6,
        low_seconds_per_hour=0,
        high_seconds_per_hour=9,
        number_per_hour=6,
        unseen_per_hour=18,
        standstills=Standstills(
            number=1, seconds=2, longest_seconds=2, late_seconds=3, late_at_half_seconds=2, at=()
        ),
    )
    numbers = numbers_of(Plan.model_validate(document).model_copy(update={"stutter": seen}))
    words = glossary()
    names = [*words.terms, *(word for term in words.terms.values() for word in term.also)]
    assert len(names) == len(set(names))
    for name, term in words.terms.items():
        found = explained(name, term, numbers, "x")
        assert (found.sum is None) == (term.sum is None), name
        assert [c.sum is None for c in found.causes] == [c.sum is None for c in term.causes], name
        assert words.find(name)[0] == name


def test_a_show_names_the_platforms_to_try_and_to_check(kestrel: Kestrel) -> None:
    rank = ("measure", "--rank", "--tries", "1", "--json")
    ranked = kestrel(*rank, "--to", "glaze-talk", "--practice", "5 ms, 9 ms")
    assert ranked.code == 0, ranked.err
    assert [r["platform"] for r in ranked.document["rankings"]] == ["oxbow", "fernlight"]
    one = kestrel(*rank, "--to", "wheel-night", "--practice", "5 ms")
    assert one.document["rankings"][0]["platform"] == "oxbow"
    held = kestrel(
        *shlex.split("check --show glaze-talk --bitrate"),
        "5 Mbit/s",
        *shlex.split("--resolution 1920x1080 --fps 30 --upload"),
        "8 Mbit/s",
        "--json",
    )
    assert {f["platform"] for f in held.document["findings"]} == {"oxbow", "fernlight", "upload"}
    assert (
        "glaze-talk" in kestrel("check", "--show", "glaze-tlk", "--bitrate", "5 Mbit/s").error_line
    )


def test_a_setting_is_explained_by_the_reason_of_the_latest_plan(kestrel: Kestrel) -> None:
    planned = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json").document
    assert kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s").code == 0
    reasons = {r["setting"]: r for r in planned["destinations"][0]["reasons"]}
    told = 0
    for setting in SETTINGS:
        if setting.name in reasons:
            name = setting.term or setting.name.replace("_", " ")
            reason = kestrel("explain", name, "--json").document["reason"]
            assert reason == f"{reasons[setting.name]['value']}: {reasons[setting.name]['text']}"
            told += 1
    assert told > 9
