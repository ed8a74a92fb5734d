"""RTMP, AMF 0, FLV and codec headers as bytes: round trips, both ends together, hostile input."""

from __future__ import annotations

import contextlib
import random
from itertools import accumulate

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.errors import ProtocolError
from eager_kestrel.wire import amf0, flv
from eager_kestrel.wire.chunks import (
    EXTENDED,
    MOST_MESSAGE_BYTES,
    MOST_STREAMS,
    ChunkReader,
    ChunkWriter,
    Message,
)
from eager_kestrel.wire.flv import LEAST, filler
from eager_kestrel.wire.parameter_sets import profile_and_level
from eager_kestrel.wire.publishing import (
    MOST_COMMANDS,
    RANDOM_BYTES,
    Ended,
    Event,
    Media,
    Publisher,
    Ready,
    Receiver,
    Refused,
    WantsToPublish,
    opening,
)

texts = st.text(max_size=30)
values = st.recursive(
    st.none() | st.booleans() | st.floats(allow_nan=False) | texts,
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.text(min_size=1, max_size=9), inner, max_size=4)
    ),
    max_leaves=12,
)


def depth(value: object) -> int:
    if isinstance(value, list):
        return 1 + max(map(depth, value), default=0)
    if isinstance(value, dict):
        return 1 + max(map(depth, value.values()), default=0)
    return 0


@given(st.lists(values, max_size=5).filter(lambda v: depth(v) <= amf0.MOST_DEPTH))
def test_values_come_back(found: list[amf0.Value]) -> None:
    assert amf0.decode(amf0.encode(*found)) == found


def test_what_other_senders_write_is_read() -> None:
    array = bytes([amf0.ECMA_ARRAY]) + bytes(4) + b"\x00\x01a" + amf0.encode(2.0) + b"\x00\x00\x09"
    assert amf0.decode(array) == [{"a": 2.0}]
    assert amf0.decode(bytes([amf0.UNDEFINED])) == [None]
    assert amf0.decode(bytes([amf0.DATE]) + bytes(10)) == [0.0]
    long = "x" * 70_000
    with pytest.raises(ProtocolError):
        amf0.decode(amf0.encode(long))  # longer than any command has


@pytest.mark.parametrize(
    "raw",
    [
        bytes([amf0.NUMBER, 0]),
        bytes([amf0.STRING, 0, 9]) + b"short",
        bytes([amf0.STRICT_ARRAY]) + b"\xff\xff\xff\xff",
        bytes([amf0.OBJECT]) * 40,
        bytes([amf0.OBJECT, 0, 1]) + b"a",
        bytes([7]),
        bytes([amf0.NULL]) * (amf0.MOST_ITEMS + 2),
        bytes([amf0.LONG_STRING]) + b"\x7f\xff\xff\xff",
        bytes([amf0.OBJECT]) + b"".join(b"\x00\x02%02d\x05" % (n % 100) for n in range(600)),
    ],
)
def test_broken_values_are_refused(raw: bytes) -> None:
    if raw.startswith(bytes([amf0.OBJECT])) and len(raw) > 1000:
        raw = bytes([amf0.OBJECT]) + b"".join(
            len(name).to_bytes(2, "big") + name + b"\x05"
            for name in (b"%d" % n for n in range(600))
        )
    with pytest.raises(ProtocolError):
        amf0.decode(raw)


messages = st.builds(
    Message,
    kind=st.sampled_from([3, 8, 9, 18, 20]),
    stream=st.sampled_from([0, 1]),
    timestamp=st.integers(0, 2**32 - 1),
    payload=st.binary(max_size=700),
)


@given(
    st.lists(st.tuples(st.integers(2, 8), messages), max_size=12),
    st.integers(128, 600),
    st.lists(st.integers(1, 200), min_size=1, max_size=20),
)
def test_messages_come_back_however_the_bytes_are_cut(
    sent: list[tuple[int, Message]], chunk_bytes: int, cuts: list[int]
) -> None:
    writer, reader = ChunkWriter(), ChunkReader()
    size = Message(1, 0, 0, chunk_bytes.to_bytes(4, "big"))
    raw = writer.message(2, size)
    writer.chunk_bytes = chunk_bytes
    raw += b"".join(writer.message(number, message) for number, message in sent)
    found: list[Message] = []
    at = 0
    while at < len(raw):
        step = cuts[at % len(cuts)]
        found += reader.feed(raw[at : at + step])
        at += step
    assert found == [message for _, message in sent]


def test_timestamps_past_four_hours_and_short_headers() -> None:
    writer, reader = ChunkWriter(), ChunkReader()
    stamps = [0, 40, EXTENDED - 1, EXTENDED, EXTENDED + 40, 2**32 - 1]
    raw = b"".join(writer.message(6, Message(9, 1, at, b"x" * 300)) for at in stamps)
    assert [m.timestamp for m in reader.feed(raw)] == stamps
    first, second = ChunkWriter(), b""
    lengths = []
    for at in (0, 33):
        second = first.message(6, Message(9, 1, at, b"frame"))
        lengths.append(len(second) - 5)
    assert lengths == [12, 8]  # the 1 + 7 bytes that core/overhead.py counts


def test_a_late_timestamp_need_not_be_said_again_within_a_message() -> None:
    """Some senders leave it out of the chunks that continue (after 4.66 hours)."""
    stamp, payload = 0x0100_0000, bytes(range(200)) + b"x" * 100
    head = bytes([6]) + b"\xff\xff\xff" + (300).to_bytes(3, "big") + bytes([9]) + bytes(4)
    for again in (stamp.to_bytes(4, "big"), b""):
        parts = [payload[at : at + 128] for at in range(0, 300, 128)]
        raw = head + stamp.to_bytes(4, "big") + (bytes([3 << 6 | 6]) + again).join(parts)
        (found,) = ChunkReader().feed(raw)
        assert (found.timestamp, found.payload) == (stamp, payload)


def test_a_type_three_header_repeats_the_last_message() -> None:
    head = bytes([6]) + (10).to_bytes(3, "big") + (2).to_bytes(3, "big") + bytes([9]) + bytes(4)
    found = list(ChunkReader().feed(head + b"ab" + bytes([3 << 6 | 6]) + b"cd"))
    assert [(m.timestamp, m.payload) for m in found] == [(10, b"ab"), (20, b"cd")]


def test_an_aborted_message_is_forgotten() -> None:
    head = bytes([6]) + bytes(3) + (200).to_bytes(3, "big") + bytes([9]) + bytes(4)
    abort = ChunkWriter().message(2, Message(2, 0, 0, (6).to_bytes(4, "big")))
    again = ChunkWriter().message(6, Message(9, 1, 7, b"whole"))
    found = list(ChunkReader().feed(head + bytes(128) + abort + again))
    assert [m.payload for m in found] == [b"whole"]


@pytest.mark.parametrize(
    "raw",
    [
        bytes([1 << 6 | 5]) + bytes(7),  # no full header before
        bytes([5]) + bytes(3) + (MOST_MESSAGE_BYTES + 1).to_bytes(3, "big") + bytes(5),
        ChunkWriter().message(2, Message(1, 0, 0, bytes(4))),  # a chunk size of zero
        b"".join(
            bytes([0, n]) + bytes(3) + (9).to_bytes(3, "big") + bytes(5) + bytes(9)
            for n in range(MOST_STREAMS + 1)
        ),
        (bytes([5]) + bytes(3) + (200).to_bytes(3, "big") + bytes(5) + bytes(128)) * 2,
    ],
)
def test_chunks_that_make_no_sense_are_refused(raw: bytes) -> None:
    with pytest.raises(ProtocolError):
        list(ChunkReader().feed(raw))


@given(st.binary(max_size=2000), st.integers(0, 2**32))
def test_hostile_bytes_raise_nothing_else(raw: bytes, seed: int) -> None:
    rng = random.Random(seed)
    shaken = opening(0, bytes(RANDOM_BYTES)) + bytes(1536)
    for peer in (Receiver(), Publisher("live", "rtmp://x.example/live", "k", bytes(RANDOM_BYTES))):
        data = shaken + raw
        with contextlib.suppress(ProtocolError):
            while data:
                count = rng.randrange(1, 2000)
                peer.receive(data[:count])
                data = data[count:]
    for read in (flv.read_video, flv.read_audio):
        with contextlib.suppress(ProtocolError):
            read(raw)
    for codec in ("h264", "hevc", "av1"):
        profile_and_level(codec, raw)


def talk(client: Publisher, server: Receiver, answer: bool = True) -> list[Event]:
    """Let both ends talk until neither has anything to say."""
    events: list[Event] = []
    for _ in range(20):
        out, client.outgoing = bytes(client.outgoing), bytearray()
        for event in server.receive(out) if out else []:
            events.append(event)
            if isinstance(event, WantsToPublish):
                if answer and event.key == "right":
                    server.accept()
                else:
                    server.refuse("no such key")
        back, server.outgoing = bytes(server.outgoing), bytearray()
        events += client.receive(back) if back else []
        if not client.outgoing and not server.outgoing:
            break
    return events


def connected(key: str = "right") -> tuple[Publisher, Receiver, list[Event]]:
    client = Publisher("live/x", "rtmp://h.example/live/x", key, random.Random(1).randbytes(1528))
    server = Receiver()
    return client, server, talk(client, server)


def test_both_ends_publish_together() -> None:
    client, server, events = connected()
    assert events == [WantsToPublish("live/x", "right"), Ready()]
    frame = flv.video_frame("h264", b"n" * 9000, keyframe=True, offset_ms=33)
    raw = client.about({"width": 1280.0}) + client.send(flv.VIDEO, 40, frame)
    raw += client.send(flv.AUDIO, 41, flv.aac_frame(b"sound"))
    about, video, audio = server.receive(raw)
    assert isinstance(about, Media)
    assert about.kind == "data"
    assert video == Media("video", 40, frame)
    assert audio == Media("audio", 41, flv.aac_frame(b"sound"))
    assert server.receive(client.end()) == [Ended()]


def test_a_wrong_key_is_refused_and_media_ignored() -> None:
    client, server, events = connected("wrong")
    assert isinstance(events[-1], Refused)
    assert events[-1].why == "no such key"
    assert server.receive(client.send(flv.VIDEO, 0, b"\x17\x01\x00\x00\x00x")) == []
    assert b"wrong" not in repr(events[-1]).encode()


def test_media_right_behind_the_question_is_taken() -> None:
    frame = flv.video_frame("h264", b"n" * 100, keyframe=True)
    again = Receiver()
    again._shaken = True
    ask = amf0.encode("publish", 0.0, None, "right", "live")
    writer = ChunkWriter()
    raw = writer.message(3, Message(20, 1, 0, ask)) + writer.message(6, Message(9, 1, 0, frame))
    assert again.receive(raw) == [WantsToPublish("", "right"), Media("video", 0, frame)]
    again.refuse("no")
    assert again.receive(writer.message(6, Message(9, 1, 33, frame))) == []


def test_pings_of_who_does_not_read_pile_up_to_nothing() -> None:
    ping = Message(4, 0, 0, b"\x00\x06\x00\x00\x00\x2a")
    client, _, _ = connected()
    writer, client._reader = ChunkWriter(), ChunkReader()
    for _ in range(40):
        client.receive(b"".join(writer.message(2, ping) for _ in range(1000)))
    assert len(client.outgoing) < 70_000


def test_enhanced_audio_says_which_codec() -> None:
    for code, codec in flv.AUDIO_FOURCC.items():
        head = flv.read_audio(bytes([9 << 4]) + code + b"config")
        assert (head.codec, head.part, head.body) == (codec, "header", b"config")
        assert flv.read_audio(bytes([9 << 4 | 1]) + code + b"x").part == "frame"
        assert flv.read_audio(bytes([9 << 4 | 4]) + code + b"x").part == "other"


def test_an_ingest_may_end_a_stream_and_pings_are_answered() -> None:
    client, server, _ = connected()
    server.refuse("over the ceiling")
    (refused,) = client.receive(bytes(server.outgoing))
    assert refused == Refused("over the ceiling")
    ping = ChunkWriter().message(2, Message(4, 0, 0, b"\x00\x06\x00\x00\x00\x2a"))
    client, server, _ = connected()
    server._reader = ChunkReader()
    before = len(server.outgoing)
    server.receive(ping)
    assert b"\x00\x07\x00\x00\x00\x2a" in bytes(server.outgoing[before:])


def test_received_bytes_are_acknowledged() -> None:
    client, server, _ = connected()
    frame = flv.video_frame("h264", bytes(200_000), keyframe=True)
    for number in range(8):
        server.receive(client.send(flv.VIDEO, number * 33, frame))
    assert not server.outgoing  # an answer nobody reads would reset the connection at its end
    server.acknowledge()
    server.acknowledge()
    kinds = [m.kind for m in client._reader.feed(bytes(server.outgoing))]
    assert kinds == [3]


def test_a_peer_may_talk_now_and_then_and_send_whole_messages_in_one_chunk() -> None:
    """Some servers report the bandwidth a hundred times in a show, with chunks of any size."""
    moment = 0.0
    server = Receiver(lambda: moment)
    client = Publisher("live/x", "rtmp://h.example/live/x", "right", bytes(1528))
    assert Ready() in talk(client, server)
    for _ in range(4 * MOST_COMMANDS):
        moment += 1.0
        client._say("bandwidth", 0, None)
        server.receive(bytes(client.outgoing))
        client.outgoing.clear()
    server.receive(ChunkWriter().message(2, Message(1, 0, 0, (2**31 - 1).to_bytes(4, "big"))))
    with pytest.raises(ProtocolError):
        server.receive(ChunkWriter().message(2, Message(1, 0, 0, (2**31).to_bytes(4, "big"))))


def test_a_talker_is_cut_off_and_strangers_are_told_apart() -> None:
    client, server, _ = connected()
    for _ in range(MOST_COMMANDS + 1):
        client._say("createStream", 9, None)
    with pytest.raises(ProtocolError):
        server.receive(bytes(client.outgoing))
    with pytest.raises(ProtocolError):
        Receiver().receive(b"GET / HTTP/1.1\r\n")
    with pytest.raises(ProtocolError):
        Publisher("a", "rtmp://a.example/a", "k", bytes(1528)).receive(b"HTTP/1.1 400")


@given(
    st.sampled_from(["h264", "hevc", "av1"]),
    st.binary(max_size=50),
    st.booleans(),
    st.integers(-2000, 2000),
)
def test_video_tags_come_back(codec: str, body: bytes, key: bool, offset: int) -> None:
    tag = flv.read_video(flv.video_frame(codec, body, keyframe=key, offset_ms=offset))
    assert (tag.codec, tag.part, tag.keyframe, tag.body) == (codec, "frame", key, body)
    assert tag.offset_ms == (0 if codec == "av1" else offset)
    head = flv.read_video(flv.video_header(codec, body))
    assert (head.codec, head.part, head.body) == (codec, "header", body)


def test_audio_tags_and_unknown_codecs() -> None:
    assert flv.read_audio(flv.aac_header(b"\x11\x90")).part == "header"
    assert flv.read_audio(flv.aac_frame(b"x")).body == b"x"
    assert flv.read_audio(b"\x2fmp3").codec == "mp3"
    for raw in (b"", b"\x17", b"\x22\x01\x00\x00\x00", b"\x91zzzz\x00", b"\x91hvc1"):
        with pytest.raises(ProtocolError):
            flv.read_video(raw)
    with pytest.raises(ProtocolError):
        flv.read_audio(b"")


@given(st.sampled_from(["h264", "hevc", "av1"]), st.integers(0, 5000))
def test_filler_is_exactly_as_long_as_asked(codec: str, length: int) -> None:
    made = filler(codec, length)
    assert len(made) == (length if length >= LEAST else 0)
    if made and codec != "av1":
        assert int.from_bytes(made[:4], "big") == length - 4
        assert made.endswith(b"\x80")


@given(st.lists(st.tuples(st.integers(0, 2**31), st.binary(max_size=60)), max_size=6))
def test_flv_files_add_up(tags: list[tuple[int, bytes]]) -> None:
    raw = flv.file_header() + b"".join(flv.file_tag(flv.VIDEO, at, body) for at, body in tags)
    lengths = list(accumulate((15 + len(body) for _, body in tags), initial=13))
    assert len(raw) == lengths[-1]
    for start, (at, body) in zip(lengths, tags, strict=False):
        assert raw[start + 4 : start + 7] == (at & 0xFFFFFF).to_bytes(3, "big")
        assert raw[start + 11 : start + 11 + len(body)] == body


@pytest.mark.parametrize(
    ("codec", "header", "profile", "level"),
    [
        ("h264", bytes([1, 100, 0, 42]), "high", "4.2"),
        ("h264", bytes([1, 66, 0xD0, 11]), "baseline", "1b"),
        ("h264", b"\x00\x00\x00\x01\x09\xf0\x00\x00\x01\x67\x4d\x40\x1f\xaa", "main", "3.1"),
        ("hevc", bytes([1, 1]) + bytes(10) + bytes([123]), "main", "4.1"),
        (
            "hevc",
            b"\x00\x00\x01\x42\x01\x01\x02" + bytes([1] * 10) + bytes([93, 0, 1]),
            "main10",
            "3.1",
        ),
        ("av1", bytes([0x81, 0x08, 0, 0]), "main", "4.0"),
    ],
)
def test_profiles_and_levels_are_read(codec: str, header: bytes, profile: str, level: str) -> None:
    found = profile_and_level(codec, header)
    assert found is not None
    assert (found.profile, found.level) == (profile, level)
    assert profile_and_level(codec, header[:1]) is None
    assert profile_and_level("vp9", header) is None
