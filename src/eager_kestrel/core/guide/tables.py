"""The tables of a guideline page: a reading of each column, for a person to confirm or change.

A reading is a few words: what the column holds (``resolution``, ``frame rate``, ``minimum``,
``recommended``, ``maximum``, ``range``, ``codec``, ``tier``, ``keyframes``, ``audio``, ``ignore``),
and, where that holds for the whole column, a unit, a codec, a frame rate or ``tier NAME``. The
readings of a table, with bars between, are an answer like any other.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from eager_kestrel.core.errors import InputError, nearest_name
from eager_kestrel.core.guide import proposals
from eager_kestrel.core.guide.amounts import VIDEO_KBPS, Grid, Page, amounts_in, bound_in, values_of
from eager_kestrel.core.resolution import AspectRatio
from eager_kestrel.core.units import Bitrate

ROLES = (
    "resolution",
    "frame rate",
    "minimum",
    "recommended",
    "maximum",
    "range",
    "codec",
    "tier",
    "keyframes",
    "audio",
    "ignore",
)
BITRATES = ("minimum", "recommended", "maximum", "range")
WORDS = {"minimum": "at least", "recommended": "recommended", "maximum": "at most"}
UNITS = ("kbit/s", "Mbit/s", "kB/s", "MB/s")
MOST_RUNGS = 400
"""More rows are no table of a guideline page."""
ORDINARY = (
    "everybody",
    "everyone",
    "all",
    "standard",
    "ordinary",
    "free",
    "basic",
    "default",
    "regular",
    "normal",
)
"""Tiers every account has."""
_BY_WORD = (
    ("audio", r"audio|sound"),
    ("keyframes", r"key ?-?frames?|\bgop\b|i-?frame"),
    ("tier", r"account|tier|status|membership|\bwho\b"),
    ("frame rate", r"frame ?-?rate|\bfps\b|frames"),
    ("resolution", r"resolution|picture|size|quality|format|dimension|video mode|^video$"),
    ("codec", r"codec|encoder"),
    ("minimum", r"\bmin|lowest|least|\bfrom\b"),
    ("maximum", r"\bmax|highest|most|limit|up to|ceiling|\bto\b|peak"),
    ("recommended", r"recommend|advised|ideal|target|suggest|optimal|best|average"),
    ("range", r"range"),
)
_UNIT = re.compile(r"(?i)\b[km](?:ilo|ega)?(?:bits?|bytes?|b)(?:\s?/\s?s(?:ec)?|ps)?\b")
_KEY = re.compile(r"(?i)key ?-?frames?")
_MARK = re.compile(r"\s*\[\^([0-9a-z*†‡§]{1,2})\]")
_SECTION_AUDIO = re.compile(r"(?i)\+?\s*[0-9.,]+\s*\w+(?:/s)?\s*(?:of )?audio")
CUSTOMARY_AUDIO_KBPS = 160
_FPS = re.compile(r"(?i)\b([0-9]{2,3}(?:\.[0-9]+)?)\s*fps\b")


@dataclass(frozen=True, slots=True)
class Column:
    """What a column holds."""

    role: str
    unit: str = ""
    codec: str = ""
    fps: str = ""
    tier: str = ""
    less_kbps: int = 0
    """Taken off, where a column's bitrates include audio."""

    def __str__(self) -> str:
        """The reading, as :func:`column_of` reads it back."""
        rate = f"{self.fps} fps" if self.fps else ""
        tier = f"tier {self.tier}" if self.tier else ""
        less = f"less {self.less_kbps}" if self.less_kbps else ""
        parts = (self.role, self.unit, self.codec, rate, tier, less)
        return " ".join(part for part in parts if part)


def column_of(text: str) -> Column:
    """Read a reading.

    Raises:
        InputError: it is none; says which there are.
    """
    plain = " ".join(text.strip().split())
    role = next((r for r in ROLES if plain.lower().startswith(r)), None)
    if role is None:
        known = f"write one of {', '.join(ROLES)}"
        raise InputError(
            f'"{plain}" is not a reading of a column', nearest_name(plain, list(ROLES), known)
        )
    rest = plain[len(role) :].strip()
    column = Column(role)
    tier = re.search(r"\btier ([\w-]+)", rest)
    if tier is not None:
        column, rest = replace(column, tier=tier[1].lower()), rest.replace(tier[0], " ")
    less = re.search(r"\bless ([0-9]{1,4})\b", rest)
    if less is not None:
        column, rest = replace(column, less_kbps=int(less[1])), rest.replace(less[0], " ")
    fps = _FPS.search(rest)
    if fps is not None:
        column, rest = replace(column, fps=fps[1]), rest.replace(fps[0], " ")
    for word in rest.split():
        if word in UNITS:
            column = replace(column, unit=word)
        elif word.lower() in [name for name, _ in proposals.CODEC_PATTERNS]:
            column = replace(column, codec=word.lower())
        else:
            raise InputError(
                f'"{word}" in "{plain}" is not understood',
                f"write a unit ({', '.join(UNITS)}), a codec, a frame rate or a tier",
            )
    return column


@dataclass(frozen=True, slots=True)
class PageTable:
    """A table with a row for each resolution, and how its columns are read."""

    title: str
    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    columns: tuple[Column, ...]
    notes: tuple[str, ...] = ()
    """Footnotes that stand at its cells."""

    @property
    def lines(self) -> tuple[str, ...]:
        """What columns beside the bitrates say, as lines of the page."""
        names = {"keyframes": "Keyframe interval", "audio": "Audio", "codec": "Codec"}
        rates = [n for n, column in enumerate(self.columns) if column.role == "frame rate"]
        found = []
        for number, column in enumerate(self.columns):
            if column.role not in names:
                continue
            frames = " frames" if "frame" in _KEY.sub("", self.headings[number]).lower() else ""
            for row in self.rows:
                at = f" at {row[rates[0]]} fps" if frames and rates else ""
                found.append(f"{names[column.role]}: {row[number]}{frames}{at}")
        return tuple(dict.fromkeys(found))

    @property
    def reading(self) -> str:
        """The readings of its columns, with bars between."""
        return " | ".join(map(str, self.columns))

    def read_as(self, text: str) -> PageTable:
        """The same table, read otherwise.

        Raises:
            InputError: a reading is none, or there are too few or too many.
        """
        parts = text.split("|")
        if len(parts) != len(self.columns):
            raise InputError(
                f"the table has {len(self.columns)} columns, not {len(parts)}",
                f'write "{self.reading}"',
            )
        return replace(self, columns=tuple(map(column_of, parts)))

    def rows_read(self, shape: AspectRatio) -> list[str]:
        """Its rows as answers to the question of rows, without those in :meth:`unread`."""
        return [answer for row in self.rows for answer in _answers_of(row, self.columns, shape)]

    def unread(self, shape: AspectRatio) -> list[str]:
        """Rows that name no resolution or no bitrate that can be read."""
        return [
            " | ".join(row)
            for row in self.rows
            if any(row) and not _answers_of(row, self.columns, shape)
        ]


def tables_in(page: Page, shape: AspectRatio) -> tuple[list[PageTable], tuple[str, ...]]:
    """Tables of resolutions, and the rows of all others as lines like ``Key: value``."""
    tables: list[PageTable] = []
    lines: list[str] = []
    notes = {
        match[1]: line[match.end() :].strip(" :")
        for line in page.lines
        if (match := _MARK.match(line)) is not None
    }
    for grid in page.grids:
        table = _table(grid, shape) or _table(
            Grid(tuple(zip(*grid.rows, strict=True)), 1, grid.title), shape
        )
        if table is None or len(table.rows) > MOST_RUNGS:
            lines += _as_lines(grid)
            continue
        marks = dict.fromkeys(m for row in grid.rows for cell in row for m in _MARK.findall(cell))
        table = replace(table, notes=tuple(f"note {m}: {notes.get(m, '?')}" for m in marks))
        tables.append(table)
        lines += table.lines
    return tables, tuple(lines)


def _as_lines(grid: Grid) -> list[str]:
    """``Keyframe interval: Minimum 1 s, Maximum 4 s`` of a row under such headings."""
    found = []
    heads = grid.rows[0]
    bounded = [bound_in(cell) is not None and not re.search("[0-9]", cell) for cell in heads]
    for row in grid.rows:
        if row is heads and any(bounded):
            continue
        cells = [
            f"{heads[n]} {cell}" if n and bounded[n] and cell else cell
            for n, cell in enumerate(row)
        ]
        first, *rest = dict.fromkeys(cell for cell in cells if cell) or [""]
        if first:
            found.append(f"{first.rstrip(':')}: {', '.join(rest)}" if rest else first)
    return found


def _table(grid: Grid, shape: AspectRatio) -> PageTable | None:
    """Return a table as it is probably meant, or None if no column holds resolutions."""
    plain = [tuple(_MARK.sub("", cell).strip() for cell in row) for row in grid.rows]
    grid = Grid(tuple(plain), grid.headings, grid.title)
    body, sections = _sections(grid.rows[grid.headings :])
    heads = tuple(
        " ".join(dict.fromkeys(row[n] for row in grid.rows[: grid.headings] if row[n]))
        for n in range(len(grid.rows[0]))
    )
    resolutions = [
        sum(proposals.resolution_in(row[n], shape) is not None for row in body)
        for n in range(len(heads))
    ]
    if not body or max(resolutions, default=0) * 2 < len(body):
        return None
    at = resolutions.index(max(resolutions))
    cells = [[row[n] for row in body] for n in range(len(heads))]
    codec = proposals.named(proposals.CODEC_PATTERNS, grid.title)
    columns = tuple(
        Column("resolution") if n == at else _column(heads[n], cells[n], codec)
        for n in range(len(heads))
    )
    if sections:
        heads, columns = (*heads, "codec"), (*columns, Column("codec"))
        body = tuple((*row, codec_) for row, codec_ in zip(body, sections, strict=True))
    tier = _tier(grid.title)
    if tier:
        columns = tuple(replace(c, tier=tier) if c.role in BITRATES else c for c in columns)
    return PageTable(grid.title, heads, body, columns)


def _sections(
    rows: tuple[tuple[str, ...], ...],
) -> tuple[tuple[tuple[str, ...], ...], list[str]]:
    """Rows without those that name a codec for all that follow, and the codec of each."""
    body, codecs, now = [], [], ""
    for row in rows:
        if (
            len(set(row)) == 1
            and len(row) > 1
            and proposals.named(proposals.CODEC_PATTERNS, row[0])
        ):
            now = row[0]
        else:
            body.append(row)
            codecs.append(now)
    return tuple(body), codecs if any(codecs) else []


def _column(heading: str, cells: list[str], title_codec: list[str]) -> Column:
    """What a column probably holds."""
    plain = proposals.without_names(heading).lower()
    if re.search(r"(?i)\bupload|internet|connection|line speed", heading):
        return Column("ignore")
    total = re.search(r"\btotal|\bincl|\bwith audio|\+ ?audio", plain) is not None
    if total:
        plain = re.sub(r"(?:incl\w*|with|\+)[. ]*(?:of )?audio|\baudio\b", " ", plain)
    role = next((role for role, words in _BY_WORD if re.search(words, plain)), "")
    fps = _FPS.search(heading)
    if role == "frame rate" and not fps:
        return Column("frame rate")
    bitrates = [
        c
        for c in cells
        if bool(
            amounts_in(
                proposals.without_names(c), "bitrate", (_unit(heading, c, cells)), VIDEO_KBPS
            )
        )
    ]
    if role not in ("audio", "keyframes", "tier", "codec") and len(bitrates) * 2 >= len(cells):
        if fps or role not in BITRATES:
            role = role if role in BITRATES else "maximum"
        if role == "maximum" and any(_ranged(c, _unit(heading, c, cells)) for c in bitrates):
            role = "range"
        codec = proposals.named(proposals.CODEC_PATTERNS, heading) or title_codec
        return Column(
            role,
            _named_unit(heading, cells),
            codec[0] if len(codec) == 1 else "",
            fps[1] if fps else "",
            _tier(heading),
            CUSTOMARY_AUDIO_KBPS if total else 0,
        )
    return Column(role if role and role not in BITRATES and role != "resolution" else "ignore")


def _named_unit(heading: str, cells: list[str]) -> str:
    """The unit that numbers without one have."""
    for text in (heading, *cells):
        match = _UNIT.search(text)
        if match is not None:
            bytes_ = re.search(r"[kKmM]B(?:/s|ps)?$|byte", match[0]) is not None
            return ("M" if match[0][0] in "mM" else "k") + ("B/s" if bytes_ else "bit/s")
    numbers = [
        v
        for c in cells
        for n in re.findall(r"[0-9][0-9.,]*", c)
        if (v := values_of(n.rstrip(".,"))[0])
    ]
    return "Mbit/s" if numbers and max(numbers) < 100 else "kbit/s"


def _unit(heading: str, cell: str, cells: list[str]) -> str:
    return "" if _UNIT.search(cell) else _named_unit(heading, cells)


def _ranged(cell: str, unit: str) -> bool:
    found = amounts_in(proposals.without_names(cell), "bitrate", unit, VIDEO_KBPS)
    return any(reading[0].high is not None for reading in found)


def _tier(text: str) -> str:
    match = re.search(
        r"(?i)\b([a-z]+)s?(?: accounts?| members?| tier| status)\b|\bfor ([a-z]+)s\b|"
        r"\b(partner|affiliate|premium)s?\b",
        text,
    )
    return tier_name(next(filter(None, match.groups()))) if match else ""


def tier_name(text: str) -> str:
    """A tier as a guide names it; empty for those every account has."""
    plain = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")
    return "" if not plain or plain.split("-")[0] in ORDINARY else plain


def _answers_of(row: tuple[str, ...], columns: tuple[Column, ...], shape: AspectRatio) -> list[str]:
    """A row of a table as rows of a guide: one for each codec, frame rate and tier it names."""
    cells = dict(zip([c.role for c in columns], row, strict=True))
    resolution = proposals.resolution_in(cells.get("resolution", ""), shape)
    if resolution is None:
        return []
    own = cells.get("frame rate", "")
    rates = [r.rstrip(".") for r in re.findall(r"[0-9]{2,3}(?:\.[0-9]+)?", own)]
    rate = proposals.rate_beside(cells["resolution"]) if not rates else max(rates, key=float)
    codec = proposals.named(proposals.CODEC_PATTERNS, cells.get("codec", ""))
    tier = tier_name(cells.get("tier", ""))
    bounds: dict[tuple[str, str, str], list[str]] = {}
    for column, cell in zip(columns, row, strict=True):
        if column.role not in BITRATES:
            continue
        where = (
            column.fps or rate or "",
            column.codec or (codec[0] if len(codec) == 1 else ""),
            column.tier or tier,
        )
        text = _SECTION_AUDIO.sub(" ", proposals.without_names(cell))
        for reading in amounts_in(text, "bitrate", column.unit, VIDEO_KBPS):
            amount = reading[0]
            ends = [
                Bitrate.from_kbps(e - column.less_kbps).in_kbps()
                for e in amount.ends
                if e > column.less_kbps
            ]
            bound = amount.bound or WORDS.get(column.role, "at most")
            ranged = len(ends) == 2 and bound != "recommended"
            said = " to ".join(ends) if ranged else f"{bound} {ends[-1]}" if ends else ""
            bounds.setdefault(where, []).extend([said] if said else [])
    return [_row(str(resolution), *where, said) for where, said in bounds.items() if said]


def _row(resolution: str, fps: str, codec: str, tier: str, bounds: list[str]) -> str:
    parts = [resolution]
    parts += [f"at {fps}"] if fps else []
    parts += [f"in {codec}"] if codec else []
    parts += [f"for {tier}"] if tier else []
    return f"{' '.join(parts)}: {', '.join(dict.fromkeys(bounds))}"
