"""The table of a guideline page, mapped to rungs: which column is what, and what found no place.

Works on plain rows of text, the first of which names the columns. Nothing is guessed silently: a
bitrate without a unit, or one of which nobody says whether it is wished or the most, is a question.
"""

from __future__ import annotations

import re

from eager_kestrel.core.guide.page import BOUNDS, Answers, Bound, Role, TableRung, Understood
from eager_kestrel.core.guide.rules import Codec
from eager_kestrel.core.picture import Picture, Shape, parse_frame_rate
from eager_kestrel.core.units import Bitrate

_ROLES: tuple[tuple[Role, re.Pattern[str]], ...] = (
    ("audio", re.compile(r"audio|sound")),
    ("keyframes", re.compile(r"key ?-?frames?|gop|i-?frame")),
    ("frame_rate", re.compile(r"frame ?-?rate|\bfps\b|frames")),
    ("picture", re.compile(r"resolution|picture|size|quality|format|dimension|video mode")),
    ("codec", re.compile(r"codec|encoder|encoding")),
    ("floor", re.compile(r"\bmin|lowest|least|at least|from\b")),
    ("ceiling", re.compile(r"\bmax|highest|most|limit|up to|ceiling|\bto\b")),
    ("advised", re.compile(r"recommend|advised|ideal|target|suggest|optimal|best")),
    ("bitrate", re.compile(r"bit ?-?rate|kbps|mbps|kbit|mbit|range|data rate|bandwidth")),
)
_UNIT = re.compile(r"(?i)\b([km])(?:bits?|b)(?:/s|ps)?\b")
_NUMBER = re.compile(r"[0-9][0-9,. \u00a0\u202f]*")
_AMOUNT = re.compile(r"([0-9][0-9,. \u00a0\u202f]*)(?:([kKmM])(?:bits?|[bB])(?:/s|ps)?\b)?")
LEAST_KBPS, MOST_KBPS = 8.0, 1_000_000.0
"""What a bitrate in a guideline table can be; anything else has the wrong unit."""
_PICTURE = re.compile(r"([0-9]{3,5})\s*[x×*]\s*([0-9]{3,5})")
_LINES = re.compile(
    r"\b([0-9]{3,4})\s*([pi])\s*(?:[@/ ]?\s*([0-9]{2,3}(?:\.[0-9]+)?))?(?![0-9])", re.IGNORECASE
)
_NAMED_LINES = {"8k": 4320, "4k": 2160, "uhd": 2160, "qhd": 1440, "2k": 1440, "full hd": 1080,
                "fhd": 1080, "hd": 720}  # fmt: skip
_FPS = re.compile(r"([0-9]{2,3}(?:\.[0-9]+)?)\s*(?:fps|hz|frames)", re.IGNORECASE)
_CODECS: dict[str, Codec] = {
    "h.264": "h264", "h264": "h264", "avc": "h264", "h.265": "hevc", "h265": "hevc", "hevc": "hevc",
    "av1": "av1",
}  # fmt: skip


def role_of(heading: str) -> Role:
    """What a column holds, by its heading."""
    plain = heading.lower()
    return next((role for role, pattern in _ROLES if pattern.search(plain)), "left out")


def understand(rows: list[list[str]], answers: Answers) -> Understood:
    """Map a table.

    Args:
        rows: cells as text, the headings first; short rows are taken as padded with empty cells.
        answers: what to assume where the table is silent.
    """
    done = Understood()
    if len(rows) < 2:
        done.unplaced.append("a table has a row of headings and one row at least")
        return done
    headings = [heading.strip() or f"column {n}" for n, heading in enumerate(rows[0], 1)]
    roles = [answers.roles.get(h) or role_of(h) for h in headings]
    if "picture" not in roles:  # the first column of a guideline table names the picture
        found = next((i for i in range(len(roles)) if _picture(_cell(rows[1], i), answers)), None)
        if found is not None:
            roles[found] = "picture"
    done.columns = dict(zip(headings, roles, strict=True))
    if "picture" not in roles:
        done.unplaced.append(f"no column of pictures among {', '.join(headings)}")
        return done
    for number, row in enumerate(rows[1:], 2):
        if any(cell.strip() for cell in row):
            _take_row(done, number, row, headings, roles, answers)
    return done


def _cell(row: list[str], index: int) -> str:
    return " ".join(row[index].split()) if index < len(row) else ""


def _take_row(
    done: Understood,
    number: int,
    row: list[str],
    headings: list[str],
    roles: list[Role],
    answers: Answers,
) -> None:
    cells: dict[Role, tuple[str, str]] = {}
    for index, role in enumerate(roles):
        text = _cell(row, index)
        if text and (role not in cells or role == "picture"):
            cells.setdefault(role, (text, headings[index]))
    found = _picture(cells.get("picture", ("", ""))[0], answers)
    if found is None:
        shown = cells.get("picture", (" | ".join(row), ""))[0]
        done.unplaced.append(f'row {number}: no picture in "{shown}"')
        return
    picture, fps = found
    rate_text = _FPS.search(cells["frame_rate"][0]) if "frame_rate" in cells else None
    plain = cells["frame_rate"][0] if "frame_rate" in cells else ""
    rate = rate_text[1] if rate_text else re.split(r"[^0-9.]+", plain)[-1] if plain else ""
    rate = rate or re.split(r"[^0-9.]+", plain)[0] or fps or answers.frame_rate or ""
    if not rate:
        _ask(done, "frame_rate")
        done.unplaced.append(f"row {number}: {picture} has no frame rate")
        return
    bounds = _bounds(done, number, cells, answers)
    if not bounds:
        if not done.questions:
            done.unplaced.append(f"row {number}: {picture} has no bitrate")
        return
    values = [bounds[k] for k in ("floor", "advised", "ceiling") if k in bounds]
    if values != sorted(values):
        done.unplaced.append(f"row {number}: {picture} has bitrates out of order")
        return
    done.rungs.append(
        TableRung(
            picture=picture,
            frame_rate=parse_frame_rate(rate),
            codec=_codec(cells.get("codec", ("", ""))[0]),
            floor=bounds.get("floor"),
            advised=bounds.get("advised"),
            ceiling=bounds.get("ceiling"),
            keyframes_seconds=_seconds(cells.get("keyframes", ("", ""))[0]),
            audio=max(_rates(done, number, cells["audio"], answers), default=None)
            if "audio" in cells
            else None,
        )
    )


def _ask(done: Understood, key: str) -> None:
    if key not in done.questions:
        done.questions.append(key)


def _picture(text: str, answers: Answers) -> tuple[Picture, str] | None:
    """A picture in a cell, and the frame rate that stands with it, if any."""
    fps = _FPS.search(text)
    exact = _PICTURE.search(text)
    lines = _LINES.search(text)
    rate = (lines[3] if lines and lines[3] else "") or (fps[1] if fps else "")
    if exact:
        return Picture(int(exact[1]), int(exact[2])), rate
    plain = text.lower()
    named = next((n for word, n in _NAMED_LINES.items() if re.search(rf"\b{word}\b", plain)), 0)
    count = int(lines[1]) if lines else named
    if not 100 <= count <= 8640:
        return None
    shape = Shape.parse(answers.shape)
    if shape.across >= shape.down:
        return Picture(round(count * shape.across / shape.down / 2) * 2, count), rate
    return Picture(count, round(count * shape.down / shape.across / 2) * 2), rate


def _bounds(
    done: Understood, number: int, cells: dict[Role, tuple[str, str]], answers: Answers
) -> dict[Bound, Bitrate]:
    """Floor, advised and ceiling of a row."""
    found: dict[Bound, Bitrate] = {}
    for kind in BOUNDS:
        if kind in cells:
            rates = _rates(done, number, cells[kind], answers)
            if rates:
                found[kind] = rates[0] if kind == "floor" else rates[-1]
                if kind == "advised" and len(rates) == 2:
                    found.setdefault("floor", rates[0])
                    found.setdefault("ceiling", rates[1])
                    del found["advised"]
    if "bitrate" in cells:
        rates = _rates(done, number, cells["bitrate"], answers)
        if len(rates) == 2:
            found.setdefault("floor", rates[0])
            found.setdefault("ceiling", rates[1])
        elif len(rates) == 1 and not found:
            if answers.means is None:
                _ask(done, "means")
            else:
                found[answers.means] = rates[0]
    return found


def _rates(done: Understood, number: int, cell: tuple[str, str], answers: Answers) -> list[Bitrate]:
    """One bitrate, or the two ends of a range, in ascending order; empty when there is none."""
    text, heading = cell
    outside = _UNIT.search(heading) or (_UNIT.search(answers.unit) if answers.unit else None)
    parts = [(n, m[2]) for m in _AMOUNT.finditer(text) if (n := _number(m[1]))]
    if not 1 <= len(parts) <= 2:
        done.unplaced.append(f'row {number}: "{text}" is no bitrate')
        return []
    last = parts[-1][1] or (outside[1] if outside else "")
    if not last:
        _ask(done, "unit")
        return []
    factors = [1000 if (unit or last).lower() == "m" else 1 for _, unit in parts]
    kbps = [amount * factor for (amount, _), factor in zip(parts, factors, strict=True)]
    if not all(LEAST_KBPS <= k <= MOST_KBPS for k in kbps):
        done.unplaced.append(f'row {number}: "{text}" is no likely bitrate; check its unit')
        return []
    return sorted(Bitrate.from_kbps(k) for k in kbps)


def _number(text: str) -> float | None:
    """A number with separators of thousands or a decimal point: ``4,500``, ``4 500``, ``4.5``."""
    plain = re.sub(r"[ \u00a0\u202f]", "", text).strip(".,")
    plain = re.sub(r",(?=[0-9]{3}(?:[^0-9]|$))", "", plain).replace(",", ".")
    try:
        return float(plain)
    except ValueError:
        return None


def _codec(text: str) -> Codec | None:
    plain = text.lower()
    return next((codec for word, codec in _CODECS.items() if word in plain), None)


def _seconds(text: str) -> float | None:
    numbers = [_number(part) for part in _NUMBER.findall(text)]
    return numbers[0] if len(numbers) == 1 else None
