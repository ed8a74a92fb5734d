"""Blocks as a page: self-contained HTML, or Markdown; and the report, a page of everything kept.

A page needs no script and no network; its figures are SVG inside it.
"""

from __future__ import annotations

import contextlib
import re
import tempfile
from base64 import b64encode
from collections.abc import Callable, Iterable, Iterator, Sequence
from hashlib import sha256
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.errors import InputError
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import runs as run_words
from eager_kestrel.files.documents import write_text
from eager_kestrel.report import plan_blocks
from eager_kestrel.report.blocks import (
    Block,
    Cell,
    Figure,
    Heading,
    Note,
    Parts,
    Rows,
    Styled,
    Table,
    draw,
    text_of,
)
from eager_kestrel.report.connection_blocks import hours_blocks, moment
from eager_kestrel.report.figures import for_a_phone
from eager_kestrel.report.stream_blocks import findings_blocks, review_blocks
from eager_kestrel.report.what_if_blocks import forecast_steps

if TYPE_CHECKING:
    import jinja2
    from markupsafe import Markup

    from eager_kestrel.core.plan.plan import DestinationPlan, Plan
    from eager_kestrel.core.watching.review import ReportMaterial

KINDS = (".html", ".htm", ".md")


def require_page(path: Path) -> None:
    """Refuse a file name that is no page's, before any work is done.

    Raises:
        InputError: says which are.
    """
    if path.suffix.lower() not in KINDS:
        raise InputError(
            f'"{path.name}" is not a page', "name it .html or .md; a browser prints it as .pdf"
        )


def write_page(title: str, blocks: Iterable[Block], path: Path) -> None:
    """Write blocks as a page, whole or not at all; the extension says which kind.

    Raises:
        InputError: the file name does not end in .html or .md.
        StorageError: it could not be saved.
    """
    require_page(path)
    render = markdown if path.suffix.lower() == ".md" else html
    write_text(path, render(title, list(blocks)))


# The report


def write_report(told: ReportMaterial, path: Path, *, one_page: bool = False) -> None:
    """Write everything that is kept of a plan as a page; ``one_page`` is a sheet for helpers.

    Raises:
        InputError: the file name does not end in .html or .md.
        StorageError: it could not be saved.
    """
    blocks = [*report_blocks(told, one_page=one_page)]
    shown = blocks if one_page else with_words(blocks, told.words)
    write_page(told.plan.inputs.title or "Your stream", shown, path)


def report_blocks(told: ReportMaterial, *, one_page: bool = False) -> Iterator[Block]:
    """The answer, what it rests on, and every proof; ``one_page`` is what to type, and what if."""
    plan = told.plan
    if plan.made_at:
        yield Note(f"Planned {moment(plan.made_at)}.", "dim")
    yield from plan_blocks.answer_blocks(plan, why=not one_page, full=one_page, page=True)
    yield Heading("When it struggles")
    yield from _of_each(plan, _fallbacks)
    if one_page:
        return
    if plan.split is not None:
        yield from plan_blocks.split_blocks(plan)
    yield Heading("Where the bitrate comes from")
    yield plan_blocks.budget_table(plan)
    yield Figure(lambda path: draw(plan, path))
    yield Heading("Every setting, and why")
    yield from _of_each(plan, _reasons)
    yield from _proofs(told)
    yield Heading("Data and a local copy")
    yield Note(plan_blocks.data_said(plan))
    yield Note(plan_blocks.copy_said(plan))
    yield Heading("What it rests on")
    for line in [*plan_blocks.basis(plan), *plan.remarks]:
        yield Note(line, "dim")


def _of_each(
    plan: Plan, blocks: Callable[[Sequence[DestinationPlan]], Iterator[Block]]
) -> Iterator[Block]:
    """The blocks of all that get the same, under their names if others get something else."""
    sent = plan_blocks.sent_alike(plan)
    for alike in sent:
        if len(sent) > 1:
            yield Heading(plan_blocks.places(alike), level=3)
        yield from blocks(alike)


def _fallbacks(alike: Sequence[DestinationPlan]) -> Iterator[Block]:
    destination = alike[0]
    steps = tuple(
        (f"{number}.", step.video.text, Bitrate.from_kbps(step.total_kbps).in_kbps())
        for number, step in enumerate(destination.fallbacks, 1)
    )
    if steps:
        yield Table(("", "fallback", ">total"), steps)
    yield Rows(tuple(plan_blocks.beside(destination)))


def _reasons(alike: Sequence[DestinationPlan]) -> Iterator[Block]:
    reasons = alike[0].reasons
    rows = tuple((Styled(r.title, "dim"), Styled(r.value, "strong"), r.text) for r in reasons)
    yield Table(("setting", "value", "why"), rows)
    yield from plan_blocks.notes_of(alike)


def _proofs(told: ReportMaterial) -> Iterator[Block]:
    """What is kept beside the plan; each part is there only if there is something to tell."""
    if (expected := told.forecast) is not None:
        yield Heading("How much it would have stuttered")
        held = bool(expected.steps) and expected.steps[0].within
        yield Note(expected.verdict, "good" if held else "mind")
        yield forecast_steps(expected)
        for line in expected.unknown:
            yield Note(line, "dim")
        yield Figure(lambda path: draw(expected, path))
    if (by_hour := told.hours) is not None and by_hour.hours:
        yield Heading("Upload by hour of the day", extra=True)
        yield from hours_blocks(by_hour)
        yield Figure(lambda path: draw(by_hour, path))
    if told.rehearsals:
        yield Heading("Rehearsed")
        for one in told.rehearsals:
            verdict = one.verdict
            said = run_words.verdict(verdict.text, verdict.limited_by, held=verdict.held)
            state = "good" if verdict.held else "bad"
            yield Note(f"{one.platform}, {one.planned}: {said}", state)  # type: ignore[arg-type]
    if told.findings is not None:
        yield Heading("Checked")
        yield from findings_blocks(told.findings)
    if (last := told.review) is not None:
        yield Heading("The last broadcast", extra=True)
        yield from review_blocks(last)
        yield Figure(lambda path: draw(last, path))


def with_words(blocks: list[Block], words: Iterable[tuple[str, str]]) -> list[Block]:
    """Blocks, and behind them the words of the trade that stand in them, explained."""
    text = markdown("", [b for b in blocks if not isinstance(b, Figure)]).lower()
    used = [(name, says) for name, says in words if name.lower() in text]
    rows = tuple((Styled(name, "strong"), says) for name, says in used)
    return [*blocks, Heading("The words used", extra=True), Rows(rows)] if used else blocks


# Markdown


def markdown(title: str, blocks: list[Block]) -> str:
    """Blocks as Markdown; figures are left out."""
    lines = [f"# {plain(title)}", ""] if title else []
    for block in blocks:
        lines += [*_markdown(block), ""]
    return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip() + "\n"


def plain(text: str) -> str:
    """A text as it may stand in Markdown: on one line, and nothing in it is markup."""
    return re.sub(r"([|<>`\[\]])", r"\\\1", " ".join(text.split()))


def _markdown(block: Block) -> Iterator[str]:
    match block:
        case Heading():
            yield f"{'#' * block.level} {plain(block.text)}"
        case Note():
            yield f"- {plain(f'{block.mark} {block.text}'.strip())}"
        case Rows(title="", rows=rows):
            for name, *rest in rows:
                said = ", ".join(plain(text_of(cell)) for cell in rest if text_of(cell))
                yield f"- **{plain(text_of(name))}**: {said}"
        case Rows():
            yield from _markdown_card(block)
        case Table():
            yield from _grid(block.headings, block.rows)
        case Parts():
            cells = ((p.name, Bitrate.from_kbps(p.kbps).in_kbps(), p.said) for p in block.parts)
            yield from _grid(("part", ">upload", ""), tuple(cells))
        case Figure():
            return


def _markdown_card(block: Rows) -> Iterator[str]:
    yield f"### {plain(block.title)}"
    yield ""
    wide = max(len(row) for row in block.rows)
    yield from _grid(("", "", block.notes)[:wide], block.rows)
    if block.subtitle:
        yield ""
        yield plain(block.subtitle)
    if block.below:
        yield ""
        yield from _markdown(Rows(block.below))


def _grid(headings: tuple[str, ...], rows: tuple[tuple[Cell, ...], ...]) -> Iterator[str]:
    yield "| " + " | ".join(plain(name.removeprefix(">")) for name in headings) + " |"
    yield "|" + "|".join(" ---: " if name.startswith(">") else " --- " for name in headings) + "|"
    for row in rows:
        yield "| " + " | ".join(plain(text_of(cell)) for cell in row) + " |"


# HTML


def _template(name: str) -> jinja2.Template:
    import jinja2

    loader = jinja2.PackageLoader("eager_kestrel.report", "templates")
    environment = jinja2.Environment(loader=loader, autoescape=True, trim_blocks=True)
    environment.filters["kbps"] = lambda kbps: Bitrate.from_kbps(kbps).in_kbps()
    return environment.get_template(name)


def watch_page(waiting: str) -> tuple[str, str]:
    """The page of ``watch``, and what a browser may do on it.

    That is: run this script, use this style, ask the server it came from, and nothing else
    (Content Security Policy Level 3).
    """
    from markupsafe import Markup

    style, script = (_template(name).render() for name in ("watch.css", "watch.js"))

    def only(text: str) -> str:
        return f"'sha256-{b64encode(sha256(text.encode()).digest()).decode()}'"

    policy = (
        f"default-src 'none'; script-src {only(script)}; style-src {only(style)}; connect-src "
        "'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    )
    page = _template("watch.html").render(
        waiting=waiting,
        style=Markup(style),  # noqa: S704 - both are ours
        script=Markup(script),  # noqa: S704
    )
    return page, policy


def html(title: str, blocks: list[Block]) -> str:
    """Blocks as a page of HTML, figures inside it."""
    drawn = iter(
        [
            _svgs(b.draw, number)
            for number, b in enumerate(b for b in blocks if isinstance(b, Figure))
        ]
    )
    return _template("page.html").render(
        title=title, sections=[_section(part, drawn) for part in _sections(blocks)]
    )


def _sections(blocks: list[Block]) -> Iterator[list[Block]]:
    """Blocks up to the next heading of a section."""
    part: list[Block] = []
    for block in blocks:
        if isinstance(block, Heading) and block.level == 2 and part:
            yield part
            part = []
        part.append(block)
    yield part


def _section(blocks: list[Block], drawn: Iterator[Any]) -> dict[str, Any]:
    """A section for the template: cards that follow each other stand side by side."""
    first = blocks[0] if blocks and isinstance(blocks[0], Heading) else None
    parts: list[dict[str, Any]] = []
    for is_card, group in groupby(blocks, lambda b: isinstance(b, Rows) and bool(b.title)):
        if is_card:
            parts.append({"kind": "cards", "cards": [*group]})
            continue
        for block in group:
            if isinstance(block, Figure):
                parts.append({"kind": "figure", "svgs": next(drawn)})
            else:
                parts.append({"kind": type(block).__name__.lower(), "block": block})
    return {"extra": first is not None and first.extra, "parts": parts}


def _svgs(draw_it: Callable[[Path], None], number: int) -> list[Markup]:
    """A figure for a desk and for a phone, as SVG to stand in a page: no header, own names."""
    from markupsafe import Markup

    texts = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "figure.svg")
        for place, size in (("desk", contextlib.nullcontext()), ("phone", for_a_phone())):
            with size:
                draw_it(path)
            text = path.read_text(encoding="utf-8")
            text = text[text.index("<svg") :]
            text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
            text = re.sub(r'\bid="', f'id="{place}{number}-', text)
            text = re.sub(r'(href="#|url\(#)', rf"\1{place}{number}-", text)
            texts.append(Markup(text))  # noqa: S704 - the plotting library escaped it
    return texts
