"""The house itself: sizes of files and functions, and documents that say what the program does."""

from __future__ import annotations

import ast
import json
import os
import re
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

import eager_kestrel
from eager_kestrel.cli import main
from eager_kestrel.core.show.show import Destination, Reserve, Show
from tests.conftest import ROWS, Kestrel, keeps_time

ROOT = Path(__file__).parent.parent
SOURCES = sorted((ROOT / "src").rglob("*.py"))
LONGEST_BODY, LONGEST_FILE = map(
    int,
    re.findall(
        r"at most ([0-9]+) (?:lines|that)", (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    ),
)
"""Stated where contributors read them, and nowhere else."""


def functions(path: Path) -> Iterator[tuple[str, int]]:
    """Each with the lines of its body: a signature and a docstring are as long as they need."""
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            first = node.body[1] if ast.get_docstring(node) and node.body[1:] else node.body[0]
            last = node.end_lineno or 0
            yield f"{path.relative_to(ROOT)}: {node.name}", last - first.lineno + 1


def test_files_and_functions_stay_readable() -> None:
    assert [
        (str(p.relative_to(ROOT)), lines)
        for p in SOURCES
        if (lines := sum(bool(line.strip()) for line in p.read_text().splitlines())) > LONGEST_FILE
    ] == []
    assert [
        (n, length) for p in SOURCES for n, length in functions(p) if length > LONGEST_BODY
    ] == []


def test_every_room_says_what_is_decided_there() -> None:
    core = ROOT / "src" / "eager_kestrel" / "core"
    for room in (p for p in core.iterdir() if (p / "__init__.py").exists()):
        said = ast.get_docstring(ast.parse((room / "__init__.py").read_text())) or ""
        assert re.search(r"(?m)^In: .+", said), room
        assert re.search(r"(?m)^Out: .+", said), room


def test_every_path_the_documents_name_is_there() -> None:
    pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.md")]
    for page in pages:
        text = page.read_text(encoding="utf-8")
        for link in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", text):
            assert (page.parent / link).exists(), f"{page.name}: {link}"
        for named in re.findall(r"`(\w+(?:/\w+)+\.(?:py|toml|sh|csv|md))`", text):
            package = ROOT / "src" / "eager_kestrel"
            roots = (ROOT, package, package / "core")
            assert any((root / named).exists() for root in roots), f"{page.name}: {named}"


def test_decisions_are_short_and_of_today() -> None:
    folder = ROOT / "docs" / "decisions"
    listed = (folder / "README.md").read_text(encoding="utf-8")
    records = sorted(folder.glob("[0-9]*.md"))
    for record in records:
        text = record.read_text(encoding="utf-8")
        words = [word for word in text.split() if any(sign.isalnum() for sign in word)]
        assert len(words) < 200, record.name
        assert text.startswith(f"# {record.name[:4]} "), record.name
        assert f"]({record.name})" in listed, record.name
    known = {int(record.name[:4]) for record in records}
    gone = {int(number) for number in re.findall(r"^\| ([0-9]{4}) \|", listed, re.MULTILINE)}
    assert known | gone == set(range(1, max(known) + 1))
    assert not known & gone


def test_the_places_of_a_codec_are_listed() -> None:
    page = (ROOT / "docs" / "extending.md").read_text(encoding="utf-8")
    section = page.partition("## A codec")[2].partition("\n## ")[0]
    package = ROOT / "src" / "eager_kestrel"
    naming = {str(p.relative_to(package)) for p in SOURCES if '"av1"' in p.read_text()}
    assert naming <= set(re.findall(r"`([\w/]+\.py)`", section))


def test_every_key_of_a_show_is_explained() -> None:
    text = (ROOT / "docs" / "shows.md").read_text(encoding="utf-8")
    for model in (Show, Destination, Reserve):
        for key in model.model_fields:
            assert f"`{key}`" in text, key


def test_every_kind_of_document_is_explained_and_has_a_schema(kestrel: Kestrel) -> None:
    text = (ROOT / "docs" / "documents.md").read_text(encoding="utf-8")
    kinds = kestrel("schema").out.split()
    assert len(kinds) >= 20
    for kind in kinds:
        assert f"`{kind}`" in text, kind
        schema = kestrel("schema", kind).document
        assert schema["title"].endswith(f"eager-kestrel/{kind}/3")
        assert {"properties", "anyOf", "$ref"} & set(schema), kind
    assert kestrel("schema", "plam").error_line.endswith('write "plan"')


EXAMPLES = re.findall(
    r"```python\n(.*?)```", (ROOT / "docs" / "python.md").read_text(encoding="utf-8"), re.DOTALL
)


@pytest.mark.parametrize("example", EXAMPLES, ids=range(len(EXAMPLES)))
def test_every_example_runs(example: str, capsys: pytest.CaptureFixture[str]) -> None:
    said = [line.split("# ", 1)[1] for line in example.splitlines() if "  # " in line]
    exec(compile(example, "docs/python.md", "exec"), {})
    printed = capsys.readouterr().out
    assert printed
    for line in said:
        assert line in printed


def test_every_function_of_the_api_is_typed_and_explained() -> None:
    text = (ROOT / "docs" / "python.md").read_text(encoding="utf-8")
    public = dir(eager_kestrel)
    assert len(public) > 70
    for name in public:
        value = getattr(eager_kestrel, name)
        assert f"`{name}`" in text, name
        assert value.__doc__, name
        assert isinstance(value, type) or "return" in value.__annotations__, name
    with pytest.raises(AttributeError, match="no attribute"):
        _ = eager_kestrel.plam


def test_documents_carry_their_format(kestrel: Kestrel, tmp_path: Path) -> None:
    line = ("--for", "oxbow", "--upload", "12 Mbit/s")
    for name, command in {
        "plan": ("plan", *line),
        "sweep": ("plan", *line, "--sweep", "motion"),
        "need": ("need", "oxbow"),
        "run-list": ("runs", "list"),
        "guide-list": ("guides", "list"),
        "guide": ("guides", "show", "oxbow"),
        "findings": ("check", "--bitrate", "5 Mbit/s", "--for", "oxbow"),
        "terms": ("explain",),
        "explanation": ("explain", "keyframes"),
    }.items():
        said = kestrel(*command, "--json").document
        assert said["format"] == f"eager-kestrel/{name}/3"
        known = kestrel("schema", name).document
        top = known if "properties" in known else known["$defs"][known["$ref"].rpartition("/")[2]]
        assert set(said) <= set(top["properties"]), name
        assert json.dumps(said)


def test_what_keeps_time_runs_in_rows(request: pytest.FixtureRequest) -> None:
    if "PYTEST_XDIST_WORKER" not in os.environ:
        pytest.skip("one process runs everything in one row")
    timed = [item for item in request.session.items if keeps_time(item)]
    assert all(item.nodeid.rpartition("@")[2] in ROWS for item in timed)


def test_no_class_name_is_used_twice() -> None:
    found = Counter(
        node.name
        for path in SOURCES
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    )
    assert [name for name, count in found.items() if count > 1] == []


def test_every_exit_code_is_documented() -> None:
    page = (ROOT / "docs" / "commands.md").read_text(encoding="utf-8")
    table = page.partition("## Exit codes")[2]
    codes = {int(code) for code in re.findall(r"^\| `([0-9]+)` \|", table, re.MULTILINE)}
    known = {value for name, value in vars(main).items() if name.startswith("EXIT_")}
    assert codes == known | {0}
