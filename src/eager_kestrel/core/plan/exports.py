"""A plan in other shapes: tables, text, and argument lists for open-source media frameworks.

The lists use documented options only: those of the FFmpeg command line (ffmpeg-codecs, ffmpeg-
scaler) and of GStreamer's launch syntax with the x264enc, x265enc, svtav1enc and avenc_aac
elements. A stream key never appears: the address ends in ``$EAGER_KESTREL_STREAM_KEY``, for the
shell to fill in.
"""

from __future__ import annotations

import csv
import io
import shlex
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODECS

if TYPE_CHECKING:
    from eager_kestrel.core.plan.plan import DestinationPlan, Plan
    from eager_kestrel.core.settings.values import AudioSettings, VideoSettings

AV1_LIVE = "rc=2:pred-struct=1:rtc=1"
"""Of SVT-AV1: real time, no frame waits for a later one. It has constant bitrate only then, takes
no peak, and aims at the planned bitrate where a platform would rather have it vary."""
RANGES = {"limited": "tv", "full": "pc"}
KEY = "$EAGER_KESTREL_STREAM_KEY"
SOURCE = "INPUT"
FFMPEG_AUDIO = {"aac": "aac", "opus": "libopus", "mp3": "libmp3lame"}
GST_AUDIO = {
    "aac": ("avenc_aac", 1000, "aacparse"),
    "opus": ("opusenc", 1000, "opusparse"),
    "mp3": ("lamemp3enc target=bitrate cbr=true", 1, "mpegaudioparse"),
}
"""Element, factor of kbit/s in its ``bitrate``, and parser."""
FLV, TS = "flv", "mpegts"


def ffmpeg_arguments(
    planned: DestinationPlan, source: str = SOURCE, target: str | None = None
) -> list[str]:
    """The arguments of the ``ffmpeg`` program for a feasible destination.

    Raises:
        ValueError: the destination has no settings.
    """
    video, audio = _settings(planned)
    kbit, most = f"{video.bitrate_kbps:g}k", f"{video.max_kbps:g}k"
    resolution = f"fps={video.frame_rate},{_ffmpeg_resolution(planned, video)}"
    if video.deinterlace is not None:
        resolution = f"bwdif=mode=send_{video.deinterlace},{resolution}"
    arguments = ["-re", "-i", source, "-vf", f"{resolution},format={video.pixel_format}"]
    arguments += ["-c:v", video.own_encoder or CODECS[video.codec].encoder]
    arguments += _ffmpeg_encoder(video)
    arguments += ["-b:v", kbit]
    if video.codec != "av1" or video.own_encoder is not None:
        arguments += ["-maxrate", most, "-bufsize", f"{video.buffer_kbit:g}k"]
        arguments += ["-minrate", kbit] if video.rate_control == "constant" else []
    arguments += ["-g", str(video.keyframe_frames), "-keyint_min", str(video.keyframe_frames)]
    arguments += ["-bf", str(video.b_frames), "-colorspace", video.colour]
    arguments += ["-color_primaries", video.colour, "-color_trc", video.colour]
    arguments += ["-color_range", RANGES[video.colour_range]]
    arguments += ["-c:a", FFMPEG_AUDIO[audio.codec], "-b:a", f"{audio.bitrate_kbps:g}k"]
    arguments += ["-ar", str(audio.sample_rate_hz), "-ac", str(audio.channels)]
    ts = planned.transport in ("hls", "srt")
    return [*arguments, "-f", TS if ts else FLV, target or _address(planned, microseconds=True)]


def _ffmpeg_resolution(planned: DestinationPlan, video: VideoSettings) -> str:
    """Filters to the resolution: a source of another shape is cropped or padded, not stretched."""
    kernel, square = video.resize or "bicubic", ""
    scale = f"scale={video.resolution.width}:{video.resolution.height}:flags={kernel}"
    if video.square is not None:
        scale += ",setsar=1"
        square = f"scale={video.square.width}:{video.square.height}:flags={kernel},setsar=1,"
    if planned.fit is None:
        return scale
    width, height = video.resolution.width, video.resolution.height
    if planned.fit.way == "pad":
        within = f"scale={width}:{height}:flags={kernel}:force_original_aspect_ratio=decrease"
        return f"{square}{within}:force_divisible_by=2,pad={width}:{height}:-1:-1,setsar=1"
    crop = rf"crop=min(iw\,ih*{width}/{height}):min(ih\,iw*{height}/{width})"
    return f"{square}{crop},{scale}" + (",setsar=1" if not square else "")


def _ffmpeg_encoder(video: VideoSettings) -> list[str]:
    """Options of one encoder: preset, profile, level, and keyframes only where they are due."""
    if video.own_encoder is not None:
        return ["-profile:v", video.profile]
    constant, preset = video.rate_control == "constant", _preset(video)
    if video.codec == "h264":
        hrd = ":nal-hrd=cbr:filler=1" if constant else ""
        named = ["-preset", preset, "-profile:v", video.profile, "-level:v", video.level]
        return [*named, "-x264-params", f"scenecut=0:open-gop=0{hrd}"]
    if video.codec == "hevc":
        strict = ":strict-cbr=1" if constant else ""
        params = f"scenecut=0:open-gop=0:level-idc={video.level}{strict}"
        return ["-preset", preset, "-profile:v", video.profile, "-x265-params", params]
    return ["-preset", preset, "-svtav1-params", AV1_LIVE]


def gstreamer_arguments(
    planned: DestinationPlan, source: str = SOURCE, target: str | None = None
) -> list[str]:
    """The arguments of ``gst-launch-1.0`` for a feasible destination.

    Args and errors are those of :func:`ffmpeg_arguments`.
    """
    video, audio = _settings(planned)
    caps = f"width={video.resolution.width},height={video.resolution.height}"
    caps += f",framerate={video.frame_rate.numerator}/{video.frame_rate.denominator}"
    ts = planned.transport in ("hls", "srt")
    sink = ["mpegtsmux", "name=mux"] if ts else ["flvmux", "name=mux", "streamable=true"]
    where = {"hls": ["filesink"], "srt": ["srtsink"]}.get(planned.transport, ["rtmp2sink"])
    address = "uri" if planned.transport == "srt" else "location"
    borders = " add-borders=true" if planned.fit and planned.fit.way == "pad" else ""
    method = "lanczos" if video.resize == "lanczos" else "catrom"
    return [
        *("-e", "uridecodebin", f"uri={source}", "name=in", *sink, "!", *where),
        f"{address}={target or _address(planned)}",
        *["in.", "!", "queue", "!", "videoconvert", "!"],
        *_gst_deinterlace(video),
        *_gst_square(video),
        *_gst_crop(planned),
        *f"videoscale method={method}{borders} ! videorate !".split(),
        f"video/x-raw,format=I420,colorimetry=bt709,{caps}",
        *("!", *_gst_encoder(video), *["!", "queue", "!", "mux.", "in.", "!", "queue"]),
        *["!", "audioconvert", "!", "audioresample", "!"],
        f"audio/x-raw,rate={audio.sample_rate_hz},channels={audio.channels}",
        *("!", *_gst_audio(audio), *["!", "queue", "!", "mux."]),
    ]


def _gst_deinterlace(video: VideoSettings) -> list[str]:
    if video.deinterlace is None:
        return []
    fields = "all" if video.deinterlace == "field" else "top"
    return ["deinterlace", f"fields={fields}", "!"]


def _gst_square(video: VideoSettings) -> list[str]:
    """A source whose pixels are not square gets square ones first, whatever it says of them."""
    if video.square is None:
        return []
    size = f"width={video.square.width},height={video.square.height}"
    caps = f"video/x-raw,{size},pixel-aspect-ratio=1/1"
    return ["videoscale", "add-borders=false", "!", caps, "!"]


def _gst_crop(planned: DestinationPlan) -> list[str]:
    """The same crop as for FFmpeg: in the middle, to the shape of what is sent."""
    fit = planned.fit
    if fit is None or fit.way == "pad" or planned.video is None:
        return []
    shape = planned.video.resolution.shape
    return ["aspectratiocrop", f"aspect-ratio={shape.across}/{shape.down}", "!"]


def _gst_audio(audio: AudioSettings) -> list[str]:
    element, factor, parser = GST_AUDIO[audio.codec]
    return [*element.split(), f"bitrate={audio.bitrate_kbps * factor:.0f}", "!", parser]


def _gst_encoder(video: VideoSettings) -> list[str]:
    preset = _preset(video)
    rate, frames = f"{video.bitrate_kbps:.0f}", str(video.keyframe_frames)
    if video.codec == "h264":
        buffer_ms = video.buffer_kbit / video.bitrate_kbps * 1000
        hrd = (
            "nal-hrd=cbr"
            if video.rate_control == "constant"
            else (
                f"vbv-maxrate={video.max_kbps:.0f}:vbv-bufsize={video.buffer_kbit:.0f}:nal-hrd=vbr"
            )
        )
        element = [
            "x264enc",
            f"bitrate={rate}",
            f"key-int-max={frames}",
            f"bframes={video.b_frames}",
            f"speed-preset={preset}",
            *([f"vbv-buf-capacity={buffer_ms:.0f}"] if video.rate_control == "constant" else []),
            f"option-string=scenecut=0:open-gop=0:{hrd}",
        ]
        caps = f"video/x-h264,profile={video.profile}"
        caps = caps.replace("profile=baseline", "profile=constrained-baseline")
        return [*element, "!", caps, "!", "h264parse"]
    if video.codec == "hevc":
        return [
            "x265enc",
            f"bitrate={rate}",
            f"key-int-max={frames}",
            f"speed-preset={preset}",
            f"option-string=scenecut=0:open-gop=0{_x265_rate(video)}",
            "!",
            "h265parse",
        ]
    return [
        "svtav1enc",
        f"target-bitrate={rate}",
        f"intra-period-length={frames}",
        f"preset={preset}",
        f"parameters-string={AV1_LIVE}",
        "!",
        "av1parse",
    ]


def _preset(video: VideoSettings) -> str:
    """What was measured here, else the usual one; an encoder of its own kind has none."""
    usual = CODECS[video.codec].preset
    return usual if video.own_encoder else video.preset or usual


def _x265_rate(video: VideoSettings) -> str:
    if video.rate_control == "constant":
        return ""
    return f":vbv-maxrate={video.max_kbps:.0f}:vbv-bufsize={video.buffer_kbit:.0f}"


def _settings(planned: DestinationPlan) -> tuple[VideoSettings, AudioSettings]:
    if planned.video is None or planned.audio is None:
        raise ValueError(f"{planned.platform} has no settings")
    return planned.video, planned.audio


def _address(planned: DestinationPlan, *, microseconds: bool = False) -> str:
    """The first server with the key; of SRT with the delay, which FFmpeg wants in microseconds."""
    ingest = planned.servers[0] if planned.servers else f"{planned.transport}://INGEST"
    if planned.transport == "srt":
        delay = (planned.latency_ms or 0) * (1000 if microseconds else 1)
        return f"{ingest.rstrip('/')}?mode=caller&latency={delay}&streamid={KEY}"
    return f"{ingest.rstrip('/')}/{KEY}"


def command_line(program: str, arguments: list[str]) -> str:
    """One line for a POSIX shell, in which only the stream key is left to be filled in."""
    quoted = [
        f'"{a}"' if a.endswith(KEY) and not set(a[: -len(KEY)]) & set('"`\\$') else shlex.quote(a)
        for a in arguments
    ]
    return " ".join([program, *quoted])


ROWS = [
    "platform",
    "tier",
    "width",
    "height",
    "fps",
    "bitrate_kbps",
    "peak_kbps",
    "rate_control",
    "buffer_kbit",
    "keyframe_seconds",
    "keyframe_frames",
    "codec",
    "profile",
    "level",
    "b_frames",
    "audio_codec",
    "audio_kbps",
    "sample_rate_hz",
    "channels",
    "total_kbps",
]


def plan_csv(plan: Plan) -> str:
    """A line a feasible destination."""
    out = io.StringIO()
    table = csv.DictWriter(out, ROWS, lineterminator="\n", extrasaction="ignore")
    table.writeheader()
    for planned in plan.destinations:
        if planned.video is not None and planned.audio is not None:
            audio = planned.audio
            table.writerow(
                planned.video.model_dump()
                | {"platform": planned.platform, "tier": planned.tier or ""}
                | {"audio_codec": audio.codec, "audio_kbps": audio.bitrate_kbps}
                | {"sample_rate_hz": audio.sample_rate_hz, "channels": audio.channels}
                | {"total_kbps": planned.total_kbps}
            )
    return out.getvalue()
