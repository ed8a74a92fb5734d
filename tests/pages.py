"""Guideline pages of made-up platforms, none like another, and what each proposes.

Of each of ``PAGES``: its text, what a person sets, how many rungs come of it, and what stands in the
guide by dotted key (``rungs.0.ceiling``). ``SENTENCES`` give what one line proposes by key, those
with a doubt behind a question mark; an empty dict where it proposes nothing.
"""

from __future__ import annotations

from typing import Any

PAGES: dict[str, tuple[str, tuple[str, ...], int, dict[str, Any]]] = {
    "larch.md": (
        """
# Sending to Larch

| Quality | Recommended bitrate | Max bitrate | Keyframe interval |
| ------- | ------------------: | ----------: | ----------------- |
| 1080p60 | 6 Mbps              | 8 Mbps      | 2 seconds         |
| 720p30  | 3 Mbps              | 4 Mbps      | 2 seconds         |

- Keyframe interval: 2 seconds
- Rate control: CBR
- Video codec: H.264, High profile
- Audio: AAC, 160 kbps, 48 kHz, stereo
- Protocol: RTMPS or RTMP
""",
        (),
        2,
        {
            "rungs.0.resolution": "1920x1080",
            "rungs.0.recommended": "6000 kbit/s",
            "rungs.0.ceiling": "8000 kbit/s",
            "video.keyframes": "2 s",
            "video.rate_control": ["constant"],
            "video.profiles": {"h264": ["high"]},
            "audio.most": "160 kbit/s",
            "audio.channels": [2],
            "audio.sample_rates_hz": [48000],
            "transports": ["rtmps", "rtmp"],
        },
    ),
    "bytes.csv": (
        """Picture,Frame rate,Maximum (MB/s)
1920x1080,60,0.75
1280x720,30,0.5
""",
        (),
        2,
        {"rungs.0.ceiling": "6000 kbit/s", "rungs.1.ceiling": "4000 kbit/s"},
    ),
    "thousands.tsv": (
        """Resolution\tFrame rate\tMax. bitrate
3840x2160\t60\t51.000 kbit/s
1920x1080\t60\t9.000 kbit/s
""",
        (),
        2,
        {"rungs.0.ceiling": "51000 kbit/s", "rungs.1.ceiling": "9000 kbit/s"},
    ),
    "frames.csv": (
        """Picture,fps,Max kbit/s,Keyframes (frames)
1280x720,50,4000,100
960x540,50,2500,100
""",
        (),
        2,
        {"video.keyframes": "2 s"},
    ),
    "at-most.html": (
        """<h2>What Fenbridge takes</h2><table>
<tr><th>Size</th><th>Frame rate</th><th>Bitrate, at most</th><th>Key frames</th></tr>
<tr><td>1920 &times; 1080</td><td>up to 30</td><td>4&nbsp;500 kbit/s</td><td>up to 4 seconds</td></tr>
<tr><td>1280 &times; 720</td><td>up to 30</td><td>2&nbsp;500 kbit/s</td><td>up to 4 seconds</td></tr>
</table>""",
        (),
        2,
        {"video.keyframes.at_most": "4 s", "video.fastest": "30", "rungs.0.ceiling": "4500 kbit/s"},
    ),
    "spans.html": (
        """<table><thead>
<tr><th rowspan="2">Picture</th><th colspan="2">Bitrate (kbit/s)</th><th rowspan="2">Frame rate</th></tr>
<tr><th>Minimum</th><th>Maximum</th></tr></thead><tbody>
<tr><td rowspan="2">1920x1080</td><td>4500</td><td>9000</td><td>60</td></tr>
<tr><td>3000</td><td>6000</td><td>30</td></tr>
<tr><td>1280x720</td><td>1500</td><td>4000</td><td>30</td></tr></tbody></table>""",
        (),
        3,
        {
            "rungs.0.floor": "4500 kbit/s",
            "rungs.0.ceiling": "9000 kbit/s",
            "rungs.1.floor": "3000 kbit/s",
            "rungs.1.resolution": "1920x1080",
            "rungs.1.frame_rate": "30",
            "rungs.2.floor": "1500 kbit/s",
        },
    ),
    "two-rates.md": (
        """
| Resolution | Bitrate at 30 fps | Bitrate at 60 fps |
| --- | --- | --- |
| 1080p | 3,000-6,000 kbps | 4,500-9,000 kbps |
| 720p | 1,500-4,000 kbps | 2,250-6,000 kbps |
""",
        (),
        4,
        {
            "rungs.0.frame_rate": "30",
            "rungs.0.ceiling": "6000 kbit/s",
            "rungs.1.frame_rate": "60",
            "rungs.1.floor": "4500 kbit/s",
        },
    ),
    "turned.html": (
        """<table><tr><td></td><td>1080p</td><td>720p</td><td>480p</td></tr>
<tr><td>Frame rate</td><td>60</td><td>60</td><td>30</td></tr>
<tr><td>Minimum bitrate (kbps)</td><td>4000</td><td>2500</td><td>800</td></tr>
<tr><td>Maximum bitrate (kbps)</td><td>8000</td><td>5000</td><td>1500</td></tr></table>""",
        (),
        3,
        {
            "rungs.0.floor": "4000 kbit/s",
            "rungs.2.ceiling": "1500 kbit/s",
            "rungs.2.frame_rate": "30",
        },
    ),
    "by-codec.html": (
        """<h3>H.264</h3><table><tr><th>Picture</th><th>fps</th><th>Max bitrate</th></tr>
<tr><td>1080p</td><td>60</td><td>9 Mbit/s</td></tr><tr><td>720p</td><td>60</td><td>6 Mbit/s</td></tr></table>
<h3>HEVC</h3><table><tr><th>Picture</th><th>fps</th><th>Max bitrate</th></tr>
<tr><td>1080p</td><td>60</td><td>6 Mbit/s</td></tr><tr><td>720p</td><td>60</td><td>4 Mbit/s</td></tr></table>
""",
        (),
        4,
        {
            "video.codecs": ["h264", "hevc"],
            "rungs.0.codec": "h264",
            "rungs.2.codec": "hevc",
            "rungs.2.ceiling": "6000 kbit/s",
            "video.ceiling": "9000 kbit/s",
        },
    ),
    "by-standing.html": (
        """<h2>For everyone accounts</h2><table>
<tr><th>Picture</th><th>fps</th><th>Limit</th></tr><tr><td>1080p</td><td>60</td><td>6000 kbps</td></tr>
</table><h2>For hearth members</h2><table><tr><th>Picture</th><th>fps</th><th>Limit</th></tr>
<tr><td>1080p</td><td>60</td><td>8500 kbps</td></tr></table>""",
        (),
        1,
        {
            "video.ceiling": "6000 kbit/s",
            "tiers.hearth.ceiling": "8500 kbit/s",
            "rungs.0.ceiling": "6000 kbit/s",
        },
    ),
    "standing-column.csv": (
        """Account;Picture;fps;Max bitrate
Basic;1280x720;60;4 Mbit/s
Gold leaf;1280x720;60;7 Mbit/s
""",
        (),
        1,
        {"rungs.0.ceiling": "4000 kbit/s", "tiers.gold-leaf.ceiling": "7000 kbit/s"},
    ),
    "mixed-units.md": (
        """
Video | Bitrate
--- | ---
1080p, 50 fps | 4.5 Mbps - 9000 kbps
720p, 50 fps | 2.5 - 6 Mbps
""",
        (),
        2,
        {
            "rungs.0.floor": "4500 kbit/s",
            "rungs.0.ceiling": "9000 kbit/s",
            "rungs.1.floor": "2500 kbit/s",
        },
    ),
    "either-rate.csv": (
        """Picture,Frame rate,Peak bitrate,Target bitrate
1920x1080,30 or 60,8 Mbit/s,6 Mbit/s
1280x720,"60 max, 30 recommended",5 Mbit/s,4 Mbit/s
""",
        (),
        2,
        {
            "rungs.0.frame_rate": "60",
            "rungs.0.recommended": "6000 kbit/s",
            "rungs.0.ceiling": "8000 kbit/s",
        },
    ),
    "no-rate.md": (
        """
We take up to 50 frames per second.

| Picture | Maximum bitrate |
| --- | --- |
| 1080p | 6 Mbit/s |
| 540p | 2 Mbit/s |
""",
        (),
        2,
        {"rungs.0.frame_rate": "50", "video.fastest": "50"},
    ),
    "upright.html": (
        """<table><tr><th>Format</th><th>fps</th><th>Max kbps</th></tr>
<tr><td>Vertical 720p</td><td>30</td><td>4000</td></tr>
<tr><td>Vertical 540x960</td><td>30</td><td>2500</td></tr></table>""",
        (),
        2,
        {
            "rungs.0.resolution": "720x1280",
            "rungs.1.resolution": "540x960",
            "video.shapes": ["9:16"],
        },
    ),
    "hd.csv": (
        """Resolution,Frame rate,Maximum bitrate
HD 1600x900,60,5500 kbit/s
Full HD (1920 x 1080),60,7000 kbit/s
""",
        (),
        2,
        {"rungs.0.resolution": "1600x900", "rungs.1.resolution": "1920x1080"},
    ),
    "totals.md": (
        """
Audio: 160 kbps AAC at most, stereo.

| Resolution | fps | Max total bitrate incl. audio |
| --- | --- | --- |
| 1920x1080 | 60 | 6160 kbps |
""",
        (),
        1,
        {"rungs.0.ceiling": "6000 kbit/s", "audio.most": "160 kbit/s"},
    ),
    "lines.txt": (
        """Sending to Pondside

Maximum resolution: 1920x1080
Frame rate: up to 60
Keyframe interval: 2 seconds recommended, do not exceed 4
Bitrate control: constant bitrate (CBR); VBR is not supported
Profile: High or Main
B-frames: 2
Audio codec: AAC-LC
Audio bitrate: 96 to 160 kbps
Audio sample rate: 44.1 kHz or 48 kHz

Resolution;Frame rate;Bitrate max
""".replace("Resolution;Frame rate;Bitrate max\n", "")
        + """
| Resolution | Frame rate | Max bitrate |
| --- | --- | --- |
| 1080p | 60 | 6000 kbps |
""",
        (),
        1,
        {
            "video.keyframes": {"at_most": "4 s", "recommended": "2 s"},
            "video.rate_control": ["constant"],
            "video.b_frames": 2,
            "audio.least": "96 kbit/s",
            "audio.most": "160 kbit/s",
            "audio.sample_rates_hz": [44100, 48000],
            "video.profiles": {"h264": ["high", "main"]},
        },
    ),
    "settings-table.html": (
        """<table><tr><th>Setting</th><th>Value</th></tr>
<tr><td>Video codec</td><td>H.264</td></tr><tr><td>Keyframe interval</td><td>2 s</td></tr>
<tr><td>Rate control</td><td>CBR</td></tr><tr><td>Audio bitrate</td><td>128 kbps</td></tr></table>
<table><tr><th>Picture</th><th>fps</th><th>Max</th></tr><tr><td>720p</td><td>30</td><td>3 Mbps</td></tr>
</table>""",
        (),
        1,
        {
            "video.keyframes": "2 s",
            "video.rate_control": ["constant"],
            "audio.most": "128 kbit/s",
            "video.codecs": ["h264"],
        },
    ),
    "prose.html": (
        """<h1>Streaming to Millrace</h1><p>We recommend <b>H.264</b>. Keyframes every 2
seconds are recommended; do not exceed 4 seconds.</p><p>High profile, 2 B-frames, constant bitrate.</p>
<p>Frame rate: 30 or 60. Do not go over 60.</p><p>Doors open at 7, and 40 people fit in.</p>
<table><tr><th>Resolution</th><th>Most</th></tr><tr><td>1080p</td><td>6 Mbps</td></tr></table>""",
        (),
        1,
        {
            "video.keyframes": {"at_most": "4 s", "recommended": "2 s"},
            "video.codecs": ["h264"],
            "video.profiles": {"h264": ["high"]},
            "video.b_frames": 2,
            "video.rate_control": ["constant"],
            "rungs.0.frame_rate": "60",
        },
    ),
    "upload.csv": (
        """Quality,fps,Bitrate (max),Minimum upload speed
1080p,60,6 Mbps,9 Mbps
720p,60,4 Mbps,6 Mbps
""",
        (),
        2,
        {"rungs.0.ceiling": "6000 kbit/s", "rungs.1.ceiling": "4000 kbit/s"},
    ),
    "wishes.md": (
        """
| Picture | Frame rate | Recommended |
| --- | --- | --- |
| 1080p | 60 | 6,000-8,000 kbps |
| 720p | 60 | 4,000 kbps |
""",
        (),
        2,
        {
            "rungs.0.recommended": "8000 kbit/s",
            "rungs.1.recommended": "4000 kbit/s",
            "video.ceiling": "8000 kbit/s",
        },
    ),
    "with-audio.csv": (
        """Resolution;fps;Max bitrate;Audio
1920x1080;25;5000 kbit/s + 128 kbit/s audio;AAC 128 kbit/s
""",
        (),
        1,
        {"rungs.0.ceiling": "5000 kbit/s", "audio.most": "128 kbit/s"},
    ),
    "sections.html": (
        """<table><tr><th>Resolution</th><th>fps</th><th>Max</th></tr>
<tr><td colspan="3">H.264</td></tr><tr><td>1080p</td><td>60</td><td>9 Mbps</td></tr>
<tr><td colspan="3">AV1</td></tr><tr><td>1080p</td><td>60</td><td>5 Mbps</td></tr></table>""",
        (),
        2,
        {"rungs.0.codec": "h264", "rungs.1.codec": "av1", "rungs.1.ceiling": "5000 kbit/s"},
    ),
    "limits.csv": (
        """Picture,Rate (fps),Video bitrate
1280x720,25,no more than 3500 kbit/s
1024x576,25,2000 kbit/s or less
""",
        (),
        2,
        {"rungs.0.ceiling": "3500 kbit/s", "rungs.1.ceiling": "2000 kbit/s"},
    ),
    "level.md": (
        """
Level 4.1 of H.264 at the most. Advised B-frames: 1.

| Picture | fps | Max bitrate |
| --- | --- | --- |
| 1080p | 30 | 5 Mbit/s |
""",
        (),
        1,
        {"video.highest_level": {"h264": "4.1"}, "video.recommended.b_frames": 1},
    ),
    "ntsc.csv": (
        """Picture,Frame rate,Bitrate between
1280x720,29.97,between 2 and 4 Mbit/s
""",
        (),
        1,
        {
            "rungs.0.frame_rate": "29.97",
            "rungs.0.floor": "2000 kbit/s",
            "rungs.0.ceiling": "4000 kbit/s",
        },
    ),
    "told-unit.csv": (
        """Size,fps,Max
1280x720,30,3000
""",
        (),
        1,
        {"rungs.0.ceiling": "3000 kbit/s"},
    ),
    "told-cell.md": (
        """
| Picture | fps | Max bitrate |
| --- | --- | --- |
| 1080p | 60 | ask us |
| 720p | 60 | 4 Mbps |
""",
        ("rungs=1080p at 60: 6 Mbps; 720p at 60: 4 Mbps",),
        2,
        {"rungs.0.ceiling": "6000 kbit/s"},
    ),
    "told-column.csv": (
        """Picture,fps,What to send,Our notes
1280x720,30,3000 kbit/s,be kind
""",
        ("table.1=resolution | frame rate | recommended kbit/s | ignore",),
        1,
        {"rungs.0.recommended": "3000 kbit/s"},
    ),
    "one-line.txt": ("Maximum bitrate: 6000 kbps\n", (), 0, {"video.ceiling": "6000 kbit/s"}),
    "bounds-table.html": (
        """<table><tr><th>Setting</th><th>Minimum</th><th>Recommended</th><th>Maximum</th></tr>
<tr><td>Keyframe interval</td><td>1 s</td><td>2 s</td><td>4 s</td></tr>
<tr><td>Audio bitrate</td><td>96 kbps</td><td>128 kbps</td><td>160 kbps</td></tr></table>""",
        (),
        0,
        {
            "video.keyframes": {"at_least": "1 s", "recommended": "2 s", "at_most": "4 s"},
            "audio.least": "96 kbit/s",
            "audio.most": "160 kbit/s",
            "audio.recommended.bitrate": "128 kbit/s",
        },
    ),
    "codec-columns.md": (
        """
| Resolution | fps | H.264 max | H.265 max | AV1 max |
| --- | --- | --- | --- | --- |
| 1080p | 60 | 9 Mbps | 6 Mbps | 5 Mbps |
""",
        (),
        3,
        {
            "rungs.0.codec": "h264",
            "rungs.0.ceiling": "9000 kbit/s",
            "rungs.2.codec": "av1",
            "rungs.2.ceiling": "5000 kbit/s",
        },
    ),
    "omitted-tags.html": (
        """<html><body><table><tr><th>Resolution<th>Frame rate<th>Max bitrate
<tr><td>1080p<td>60<td>6 Mbps<tr><td>720p<td>30<td>3 Mbps</table><p>Keyframe interval: 2 s""",
        (),
        2,
        {"rungs.1.ceiling": "3000 kbit/s", "video.keyframes": "2 s"},
    ),
    "browser.html": (
        """<!doctype html><html><head><title>Help</title><script>var bitrate = "9000 kbps";
</script><style>p { max-width: 6000px }</style></head><body><nav><ul><li>Max bitrate 1 kbps</li></ul></nav>
<main><h1>Going live on Reedmace</h1><ul><li>Video bitrate: up to 6.000 kbps</li><li>Framerate: up to 60
fps</li><li>Keyframe interval: every two seconds</li><li>B-frames: none</li></ul></main></body></html>""",
        (),
        0,
        {
            "video.ceiling": "6000 kbit/s",
            "video.keyframes": "2 s",
            "video.b_frames": 0,
            "video.fastest": "60",
        },
    ),
    "comma-decimals.txt": (
        """Videobitrate: max. 2,5 Mbps
Keyframe interval: 2 s (max. 4 s)
""",
        (),
        0,
        {
            "video.ceiling": "2500 kbit/s",
            "video.keyframes": {"recommended": "2 s", "at_most": "4 s"},
        },
    ),
    "servers.txt": (
        """Server: rtmps://ingest.reedmace.example/live
Server: rtmp://ingest.reedmace.example/live
Server: rtmps://fast.reedmace.example/live (premium accounts)
""",
        (),
        0,
        {
            "ingest.0.url": "rtmps://ingest.reedmace.example/live",
            "ingest.1.url": "rtmp://ingest.reedmace.example/live",
            "transports": ["rtmps", "rtmp"],
        },
    ),
    "tier-titles.md": (
        """
## Partners

| Resolution | fps | Max bitrate |
| --- | --- | --- |
| 1080p | 60 | 8 Mbps |

## Everyone

| Resolution | fps | Max bitrate |
| --- | --- | --- |
| 1080p | 60 | 6 Mbps |
""",
        (),
        1,
        {"tiers.partner.ceiling": "8000 kbit/s", "rungs.0.ceiling": "6000 kbit/s"},
    ),
    "viewers.txt": (
        """Max bitrate: 6 Mbps
All streams are transcoded for viewers: always.
""",
        (),
        0,
        {"delivery.transcodes": "always", "video.ceiling": "6000 kbit/s"},
    ),
    "denials.txt": (
        """Maximum bitrate: 6000 kbps. H.265 is not supported; H.264 only.
Audio: stereo, mono not accepted. 44.1 kHz not supported, use 48 kHz audio.
""",
        (),
        0,
        {"video.codecs": ["h264"], "audio.channels": [2], "audio.sample_rates_hz": [48000]},
    ),
    "bullets.md": (
        """
* Codec: H.264 (AVC)
* Profile: Main or High
* Max video bitrate: 4,000 kbps
* Max resolution: 1280 x 720
* Frame rate: 25 or 50 fps
""",
        (),
        0,
        {
            "video.profiles": {"h264": ["main", "high"]},
            "video.largest": "1280x720",
            "video.frame_rates": ["25", "50"],
        },
    ),
    "set-by-hand.txt": (
        "Welcome to Reedmace.\nMax bitrate: ask us\n",
        ("video.ceiling=5 Mbit/s", "video.keyframes=at most 4 s"),
        0,
        {"video.ceiling": "5000 kbit/s", "video.keyframes": {"at_most": "4 s"}},
    ),
}

SENTENCES: dict[str, dict[str, str]] = {
    "Maximum bitrate: 6000 kbps": {"video.ceiling": "6,000 kbit/s"},
    "A keyframe at least every 2 seconds": {"video.keyframes": "at most 2 s"},
    "Bitrate: not below 1000 kbps": {"video.floor": "1,000 kbit/s"},
    "Keyframe interval: 2 s (max. 4 s)": {"video.keyframes": "recommended 2 s, at most 4 s"},
    "Keyframe interval: 1-4 s, 2 s recommended": {"video.keyframes": "1 s to 4 s, recommended 2 s"},
    "Keyframes every two seconds": {"video.keyframes": "2 s"},
    "Audio: mono not accepted, stereo only": {"audio.channels": "stereo"},
    "44.1 kHz audio is not supported": {},
    "H.264, AAC 48 kHz": {
        "audio.codecs": "aac",
        "audio.sample_rates": "48 kHz",
        "video.codecs": "h264",
    },
    "60 fps on request": {"video.frame_rates": "? up to 60"},
    "Frame rate: 30 or 60": {"video.frame_rates": "30, 60"},
    "VBR preferred": {"video.rate_control": "constant, variable, recommended variable"},
    "B-frames: none": {"video.b_frames": "0"},
    "Do not use B-frames": {"video.b_frames": "0"},
    "Recommended bitrate: 4500 kbps": {"video.ceiling": "? 4,500 kbit/s"},
    "Your upload speed should be at least 10 Mbps": {},
    "The maximum bitrate is 8 Mbps if you are a partner.": {"video.ceiling": "? 8,000 kbit/s"},
    "Keyframes every 120 frames": {"video.keyframes": "? 2 s"},
    "Keyframe interval: 60 frames at 30 fps": {"video.keyframes": "2 s"},
    "Bitrate 6000 KBPS": {"video.ceiling": "? 6,000 kbit/s"},
    "Bitrate up to 750 kB/s": {"video.ceiling": "6,000 kbit/s"},
    "RTMP is not encrypted; use RTMPS": {"transports": "rtmps"},
    "We do not transcode": {"delivery.transcodes": "never"},
    "Doors open at 7, and 40 people fit in.": {},
}
