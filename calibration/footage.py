"""Procedural footage of every kind of motion: made from a seed, so nothing need be shipped.

Textures follow the dead-leaves model (Lee, Mumford and Huang, "Occlusion Models for Natural
Images", IJCV 41, 2001): discs whose radii follow an inverse cube law, in front of each other. It
has the edges, the scale invariance and the 1/f spectrum of natural pictures. A little noise with a
1/f spectrum lies on every leaf, and fresh grain on every frame, as a camera adds it.

- *page*: lines of writing and a softly glowing kiln door; the camera stands.
- *desk*: a text that is being typed, a clock that ticks, a cursor that wanders.
- *head*: a head and shoulders that sway, blink and speak before a background out of focus.
- *wheel*: a turning wheel with two moving hands over a sharp table top.
- *walk*: background and foreground pan at different speeds, shake, zoom; particles fly.

And photographs before a camera that stands or sways, each frame with its own noise; and a long page
of a browser, scrolled as a wheel scrolls it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import cos, pi, sin
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFilter, ImageFont

WIDTH, HEIGHT, FPS = 1920, 1080, 60
GRAIN = {"page": 0.4, "desk": 0.0, "head": 0.7, "wheel": 0.6, "walk": 0.8}
"""Deviation of the grain in 8-bit code values: what is left of it after a camera's own cleaning."""
GRAIN_FIELDS = 24
LENS = 0.7
"""Deviation in pixels of what a lens blurs at best."""


def leaves(rng: np.random.Generator, width: int, height: int, count: int = 6000) -> Image.Image:
    """A dead-leaves texture with 1/f noise on it."""
    page = Image.new("RGB", (width, height), (96, 92, 88))
    draw = ImageDraw.Draw(page)
    radii = 9.0 / np.sqrt(rng.uniform((9.0 / 260) ** 2, 1.0, count))
    base = rng.uniform(60, 170, count)
    for radius, grey in zip(radii, base, strict=True):
        x, y = rng.uniform(0, width), rng.uniform(0, height)
        tint = rng.normal(0, 12, 3)
        colour = tuple(int(v) for v in np.clip(grey + tint, 0, 255))
        squash = rng.uniform(0.5, 1.0)
        draw.ellipse((x - radius, y - radius * squash, x + radius, y + radius * squash), colour)
    noise = pink(rng, width, height)[..., None] * 9.0
    seen = Image.fromarray(np.clip(np.asarray(page) + noise, 0, 255).astype(np.uint8))
    return seen.filter(ImageFilter.GaussianBlur(LENS))


def pink(rng: np.random.Generator, width: int, height: int) -> np.ndarray:
    """Noise of unit deviation whose amplitude falls as one over spatial frequency."""
    down, across = np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None]
    falling = 1.0 / np.maximum(np.hypot(down, across), 1.0 / width)
    field = np.fft.irfft2(
        np.fft.rfft2(rng.standard_normal((height, width))) * falling, (height, width)
    )
    return np.asarray((field - field.mean()) / field.std(), dtype=np.float32)


def moved(
    layer: Image.Image,
    x: float,
    y: float,
    zoom: float = 1.0,
    turn: float = 0.0,
    sharp: Image.Resampling = Image.Resampling.BICUBIC,
) -> Image.Image:
    """The frame-sized window of a layer whose centre is at (x, y), zoomed and turned (radians)."""
    c, s = cos(turn) / zoom, sin(turn) / zoom
    return layer.transform(
        (WIDTH, HEIGHT),
        Image.Transform.AFFINE,
        (c, s, x - c * WIDTH / 2 - s * HEIGHT / 2, -s, c, y + s * WIDTH / 2 - c * HEIGHT / 2),
        sharp,
    )


def softly(draw_on: tuple[float, float, float, float], blur: float = 2.0) -> Image.Image:
    """A mask with one soft-edged ellipse."""
    mask = Image.new("L", (WIDTH // 2, HEIGHT // 2), 0)
    ImageDraw.Draw(mask).ellipse(tuple(v / 2 for v in draw_on), 255)
    return mask.filter(ImageFilter.BoxBlur(blur / 2)).resize(
        (WIDTH, HEIGHT), Image.Resampling.BILINEAR
    )


def page(rng: np.random.Generator, count: int) -> Iterator[Image.Image]:
    """A page and a kiln door that glows; nothing moves."""
    scene = leaves(rng, WIDTH, HEIGHT).filter(ImageFilter.GaussianBlur(1.5))
    draw = ImageDraw.Draw(scene)
    draw.rectangle((1080, 120, 1800, 960), (236, 232, 222))
    for line in range(24):
        at = 1120
        while at < 1740:
            length = int(rng.integers(12, 80))
            for stroke in range(at, min(at + length, 1750), 7):
                top = 160 + line * 32 + int(rng.integers(0, 6))
                draw.line(
                    (stroke, top, stroke + int(rng.integers(-3, 4)), top + 14), (40, 40, 48), 2
                )
            at += length + 14
    glow = softly((240, 300, 760, 820), 60)
    hot = Image.new("RGB", (WIDTH, HEIGHT), (255, 120, 30))
    for frame in range(count):
        level = 0.45 + 0.04 * sin(2 * pi * frame / FPS * 0.7)
        yield Image.composite(hot, scene, glow.point(lambda v, k=level: int(v * k)))


def desk(rng: np.random.Generator, count: int) -> Iterator[Image.Image]:
    """A screen: a text grows by a sign twelve times a second, a clock ticks, a pointer moves."""
    page = Image.new("RGB", (WIDTH, HEIGHT), (30, 34, 42))
    draw = ImageDraw.Draw(page)
    draw.rectangle((0, 0, WIDTH, 44), (52, 58, 70))
    draw.rectangle((0, 44, 330, HEIGHT), (38, 43, 53))
    large, small = (ImageFont.load_default(size) for size in (22, 18))
    signs = "abcdefghijklmnopqrstuvwxyz   _().,:=+-"
    rows = ["".join(rng.choice(list(signs), 60)) for _ in range(34)]
    for row, text in enumerate(rows):
        shade = tuple(int(v) for v in rng.integers(120, 230, 3))
        draw.text((60 + 290, 70 + row * 29), text, shade, large)
        draw.text((20, 70 + row * 29), text[:24], (140, 146, 156), small)
    for frame in range(count):
        shown = page.copy()
        drawn = ImageDraw.Draw(shown)
        t = frame / FPS
        typed = rows[0][: int(t * 12) % 50]
        drawn.rectangle((340, 940, 1500, 975), (30, 34, 42))
        drawn.text((350, 942), typed + ("|" if int(t * 2) % 2 == 0 else ""), (235, 235, 225), large)
        drawn.text((1780, 10), f"20:00:{int(t):02d}", (235, 235, 225), large)
        x, y = 1200 + 300 * sin(2 * pi * 0.2 * t), 500 + 120 * sin(2 * pi * 0.3 * t)
        drawn.polygon(((x, y), (x, y + 26), (x + 17, y + 18)), (250, 250, 250))
        yield shown


def head(rng: np.random.Generator, count: int) -> Iterator[Image.Image]:
    """A head and shoulders before a background out of focus; hands that speak along."""
    back = leaves(rng, WIDTH, HEIGHT).filter(ImageFilter.GaussianBlur(2.5))
    figure = leaves(rng, WIDTH + 400, HEIGHT + 400, 9000)
    skin = Image.blend(figure, Image.new("RGB", figure.size, (205, 160, 135)), 0.7)
    middle = (figure.width / 2, figure.height / 2)
    for frame in range(count):
        t = frame / FPS
        dx, dy = 40 * sin(2 * pi * 0.45 * t), 16 * sin(2 * pi * 0.7 * t + 1)
        body = moved(figure, middle[0] - dx * 0.6, middle[1] - dy * 0.6)
        head = moved(skin, middle[0] - dx, middle[1] - dy, 1.0, 0.07 * sin(2 * pi * 0.4 * t))
        x, y = 960 + dx, 430 + dy
        draw = ImageDraw.Draw(head)
        opened = 12 + 10 * sin(2 * pi * 3.1 * t)
        draw.ellipse((x - 50, y + 110 - opened, x + 50, y + 110 + opened), (110, 50, 50))
        for side in (-80, 80):
            lid = 4 if int(t * 10) % 23 == 0 else 16
            draw.ellipse((x + side - 26, y - 40 - lid, x + side + 26, y - 40 + lid), (40, 36, 40))
        shown = Image.composite(body, back, softly((x - 520, 700 + dy / 2, x + 520, 1500), 3))
        shown = Image.composite(head, shown, softly((x - 210, y - 270, x + 210, y + 250), 3))
        for hand, side in enumerate((-1, 1)):
            hx = 960 + side * 330 + 45 * sin(2 * pi * 0.6 * t + hand)
            hy = 830 + 40 * sin(2 * pi * 0.8 * t + 2 * hand)
            palm = moved(skin, 1100 - side * 330 - hx, middle[1] - hy, 1.0, 0.1 * sin(2 * pi * t))
            shown = Image.composite(palm, shown, softly((hx - 110, hy - 80, hx + 110, hy + 110), 3))
        yield shown


def wheel(rng: np.random.Generator, count: int) -> Iterator[Image.Image]:
    """A turning wheel and two hands over a table top, seen from above."""
    table = leaves(rng, WIDTH, HEIGHT)
    wheel = leaves(rng, 2400, 2400, 9000)
    skin = Image.blend(
        leaves(rng, WIDTH + 400, HEIGHT + 400),
        Image.new("RGB", (WIDTH + 400, HEIGHT + 400), (200, 150, 125)),
        0.6,
    )
    disc = softly((560, 140, 1360, 940))
    clay = softly((760, 340, 1160, 740), 4)
    wet = Image.new("RGB", (2400, 2400), (150, 110, 90))
    lump = Image.blend(wheel, wet, 0.6)
    for frame in range(count):
        t = frame / FPS
        turning = 2 * pi * 1.2 * t
        shown = Image.composite(moved(wheel, 1200, 1200, 1.0, turning), table, disc)
        shown = Image.composite(moved(lump, 1200, 1200, 1.0, turning), shown, clay)
        for hand, side in enumerate((-1, 1)):
            dx = 70 * sin(2 * pi * 0.9 * t + hand)
            dy = 50 * cos(2 * pi * 0.6 * t + 2 * hand)
            x, y = 960 + side * 280 + dx, 560 + dy
            arm = moved(
                skin, skin.width / 2 - dx, skin.height / 2 - dy, 1.0, side * 0.15 * sin(2 * pi * t)
            )
            shown = Image.composite(arm, shown, softly((x - 170, y - 130, x + 170, y + 560), 3))
        yield shown


def walk(rng: np.random.Generator, count: int) -> Iterator[Image.Image]:
    """A walk through a crowd with the camera in the hand."""
    back = leaves(rng, 4200, 1800, 16000)
    front = leaves(rng, 5400, 1800, 9000)
    gaps = Image.new("L", (5400, 1800), 0)
    draw = ImageDraw.Draw(gaps)
    for _ in range(26):
        x, wide = rng.uniform(0, 5400), rng.uniform(60, 190)
        draw.rounded_rectangle((x, rng.uniform(300, 700), x + wide, 1800), wide / 2, 255)
    quick = Image.Resampling.BILINEAR  # motion blurs it anyway
    flakes = rng.uniform((0, 0, -300, 200, 2), (WIDTH, HEIGHT, 300, 700, 7), (140, 5))
    for frame in range(count):
        parts = []
        for part in (0.0, 0.5):  # a shutter open for half the frame
            t = (frame + part * 0.5) / FPS
            sx = 18 * sin(2 * pi * 1.9 * t) + 7 * sin(2 * pi * 5.3 * t + 1)
            sy = 24 * sin(2 * pi * 1.8 * t + 0.5) + 6 * sin(2 * pi * 6.1 * t)
            zoom, roll = 1.0 + 0.05 * t, 0.02 * sin(2 * pi * 0.9 * t)
            seen = moved(back, 1000 + 420 * t + sx, 850 + sy, zoom, roll, quick)
            near = moved(front, 1100 + 900 * t + 1.6 * sx, 850 + 1.6 * sy, 1.1 * zoom, roll, quick)
            mask = moved(gaps, 1100 + 900 * t + 1.6 * sx, 850 + 1.6 * sy, 1.1 * zoom, roll, quick)
            parts.append(Image.composite(near, seen, mask))
        shown = Image.blend(parts[0], parts[1], 0.5)
        drawn = ImageDraw.Draw(shown)
        for x, y, vx, vy, size in flakes:
            px, py = (x + vx * frame / FPS) % WIDTH, (y + vy * frame / FPS) % HEIGHT
            drawn.ellipse((px - size, py - size, px + size, py + size), (235, 225, 205))
        yield shown


SCENES = {"page": page, "desk": desk, "head": head, "wheel": wheel, "walk": walk}


@dataclass(frozen=True, slots=True)
class Photograph:
    """How a camera sees one."""

    file: str
    walks: float
    """Pixels a second to the side."""
    sways: float
    """Pixels about its place."""
    noise: float
    """Deviation in 8-bit code values of what a small sensor adds."""


PHOTOGRAPHED = {
    "petal": Photograph("TwoWings.jpg", 0, 0.4, 1.6),
    "flower": Photograph("Garden.jpg", 12, 14, 1.2),
}


def photographed(name: str, file: Path, count: int, seed: int = 7) -> Iterator[bytes]:
    """RGB frames of a photograph before a camera, as bytes."""
    how, rng = PHOTOGRAPHED[name], np.random.default_rng([seed, *name.encode()])
    with Image.open(file) as opened:
        page = opened.convert("RGB")
    grain = [
        rng.normal(0, how.noise, (HEIGHT, WIDTH, 1)).round().astype(np.int16)
        for _ in range(GRAIN_FIELDS)
    ]
    for frame in range(count):
        t = frame / FPS
        x = how.sways * (sin(2 * pi * 0.31 * t) + 0.5 * sin(2 * pi * 1.9 * t + 1))
        y = how.sways * (0.7 * sin(2 * pi * 0.43 * t + 2) + 0.6 * sin(2 * pi * 1.8 * t))
        x += how.walks * (t - count / FPS / 2)
        turn = 0.0006 * how.sways * sin(2 * pi * 0.6 * t)
        shown = moved(page, page.width / 2 + x, page.height / 2 + y, 1.05, turn)
        noise = np.roll(grain[frame % GRAIN_FIELDS], int(rng.integers(0, WIDTH)), axis=1)
        seen = np.asarray(shown, dtype=np.int16) + noise
        yield np.clip(seen, 0, 255).astype(np.uint8).tobytes()


NOTCHES = (0.4, 0.6, 0.8, 1.9, 2.1, 3.0, 3.1, 3.2, 3.3, 4.4)
"""Seconds at which a wheel is turned by one."""
NOTCH_PIXELS, NOTCH_SECONDS = 150, 0.25


def scrolled(picture: Path, count: int, top: int = 1500) -> Iterator[bytes]:
    """RGB frames of a page as wide as a frame, as bytes; a notch of the wheel slows to its end."""
    with Image.open(picture) as opened:
        page = np.asarray(opened.convert("RGB"))
    for frame in range(count):
        done = np.clip((frame / FPS - np.array(NOTCHES)) / NOTCH_SECONDS, 0.0, 1.0)
        y = top + round(NOTCH_PIXELS * float((1 - (1 - done) ** 3).sum()))
        yield page[y : y + HEIGHT].tobytes()


def frames(name: str, count: int, seed: int = 7) -> Iterator[bytes]:
    """RGB frames of 1920x1080 at 60 a second, as bytes, with grain."""
    rng = np.random.default_rng([seed, *name.encode()])
    grain = [
        np.round(rng.normal(0, GRAIN[name], (HEIGHT, WIDTH))).astype(np.int16)[..., None]
        for _ in range(GRAIN_FIELDS)
    ]
    for number, shown in enumerate(SCENES[name](rng, count)):
        noise = np.roll(grain[number % GRAIN_FIELDS], int(rng.integers(0, WIDTH)), axis=1)
        yield np.clip(np.asarray(shown, dtype=np.int16) + noise, 0, 255).astype(np.uint8).tobytes()
