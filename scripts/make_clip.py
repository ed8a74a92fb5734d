"""Write a clip of made, moving pictures, for pictures and trials of ``trial``.

Usage: python scripts/make_clip.py OUT.mp4 [SECONDS]
"""

from __future__ import annotations

import sys

import av

from eager_kestrel.core.resolution import Resolution
from eager_kestrel.media.encoders import endless, made_frames

RESOLUTION, FPS = Resolution(960, 540), 30


def main() -> None:
    """Write it."""
    seconds = int(sys.argv[2]) if len(sys.argv) > 2 else 8
    frames = endless(made_frames(RESOLUTION))
    with av.open(sys.argv[1], "w") as written:
        stream = written.add_stream("libx264", rate=FPS)
        stream.width, stream.height, stream.pix_fmt = RESOLUTION.width, RESOLUTION.height, "yuv420p"
        stream.options = {"preset": "ultrafast", "crf": "12"}
        for number in range(FPS * seconds):
            frame = next(frames)
            frame.pts = number
            written.mux(stream.encode(frame))
        written.mux(stream.encode(None))


if __name__ == "__main__":
    main()
