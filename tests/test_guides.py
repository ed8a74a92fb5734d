"""Guide files: read exactly, and refused with file, line and what to write."""

from __future__ import annotations

import re
from datetime import date, timedelta
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.files.toml import read_model
from tests.conftest import Kestrel

OXBOW = re.sub(" +=", " =", (files("eager_kestrel") / "data" / "guides" / "oxbow.toml").read_text())


def own_guide(home: Path, text: str | bytes, name: str = "oxbow") -> Path:
    folder = home / "guides"
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{name}.toml"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


def test_a_users_guide_stands_over_the_bundled_one(kestrel: Kestrel, home: Path) -> None:
    own_guide(home, OXBOW.replace('max_bitrate = "6000 kbit/s"', 'max_bitrate = "3000 kbit/s"'))
    document = kestrel("plan", "--for", "oxbow", "--upload", "30 Mbit/s", "--json").document
    assert document["destinations"][0]["video"]["bitrate_kbps"] == 3000


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('"2 s"', "2", 'oxbow.toml:34: video.keyframes: 2 has no unit; write "2 s"'),
        ("keyframes ", "keyframe  ", 'no key "video.keyframe" is known; write "keyframes"'),
        ('"6000 kbit/s"', '"6000"', "write 6000 Mbit/s or 6000 kbit/s"),
        (
            'min_bitrate = "96 kbit/s"',
            'min_bitrate = "960 kbit/s"',
            "min_bitrate (960 kbit/s) is above max_bitrate",
        ),
        ("checked = 2026-11-02", "", 'the key "checked" is missing'),
        ("/guide/3", "/guide/9", "format 9 is newer than this program reads"),
        ("/guide/3", "/show/3", "this is a show, not a guide"),
        ('format = "eager-kestrel/guide/3"', "", 'write format = "eager-kestrel/guide/3"'),
        ("[video]", "[video", "not TOML"),
        ('name = "oxbow"', 'name = "oxbox"', "make them the same"),
        ('["h264"]', '["h246"]', "video.codecs"),
    ],
)
def test_a_broken_guide_is_named_by_line(
    kestrel: Kestrel, home: Path, old: str, new: str, says: str
) -> None:
    assert old in OXBOW
    own_guide(home, OXBOW.replace(old, new, 1))
    result = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s")
    assert result.code == 2
    assert says in result.error_line
    assert "oxbow.toml" in result.error_line


@given(
    st.one_of(
        st.binary(max_size=400),
        st.builds(
            lambda cut, junk: OXBOW[:cut].encode() + junk,
            st.integers(0, len(OXBOW)),
            st.binary(max_size=20),
        ),
        st.integers(1, 3000).map(lambda n: b"a = " + b"[" * n),
        st.integers(12, 30_000).map(lambda n: b"a." * n + b"b = 1"),
    )
)
def test_no_bytes_cause_anything_but_a_clear_error(raw: bytes) -> None:
    try:
        guide = read_model(raw, Guide, "guide", "some.toml")
    except FormatError as error:
        assert error.line().startswith("some.toml")
    else:
        assert guide.name == "oxbow"


def test_bom_and_crlf_are_fine_and_size_is_bounded() -> None:
    guide = read_model(b"\xef\xbb\xbf" + OXBOW.replace("\n", "\r\n").encode(), Guide, "guide", "x")
    assert guide.video.max_bitrate.kbps == 6000
    with pytest.raises(FormatError, match="too much"):
        read_model(b"#" * 10_000_000, Guide, "guide", "x")
    with pytest.raises(FormatError, match="UTF-8"):
        read_model(OXBOW.encode("utf-16"), Guide, "guide", "x")


def test_a_stale_guide_is_said_to_be(kestrel: Kestrel, home: Path) -> None:
    old = date.today() - timedelta(days=200)
    own_guide(home, OXBOW.replace("2026-11-02", old.isoformat()))
    result = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s")
    assert result.code == 0
    assert "last checked 200 days ago" in result.err


def test_the_bundled_guide_says_what_the_scenario_says() -> None:
    guide = read_model(OXBOW.encode(), Guide, "guide", "oxbow")
    assert guide.under("hearth").video.max_bitrate.kbps == 8000
    assert guide.under("hearth").delivery.transcodes == "always"
    assert str(guide.video.max_resolution) == "1920x1080"
    assert len(guide.servers) == 3
    assert all(".example" in point.url for point in guide.servers)
