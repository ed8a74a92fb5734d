"""Where a command's result goes: screen, JSON, page, figure.

What draws is imported only when something is drawn.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.cli.terminal import print_json

if TYPE_CHECKING:
    from pydantic import BaseModel

    from eager_kestrel.cli.options import OutputFlags


def deliver(
    result: BaseModel,
    output: OutputFlags,
    *,
    writers: Mapping[str, Callable[[Path], None]] | None = None,
    drawn: BaseModel | None = None,
    **how: bool,
) -> None:
    """Draw, write and print a result as the command line asks for.

    Args:
        drawn: what a figure is of, if that takes more than is printed.
        how: for its blocks, such as ``why``.
    """
    figure: Path | None = getattr(output, "figure", None)
    if figure is not None:
        from eager_kestrel.report.blocks import draw

        draw(drawn or result, figure)
    if output.out is not None:
        kind = output.out.suffix.lower()
        if writers and kind in writers:
            writers[kind](output.out)
        elif kind == ".json":
            from eager_kestrel.actions.export import write_document

            write_document(output.out, result.model_dump(mode="json"))
        else:
            from eager_kestrel.report.blocks import blocks_of
            from eager_kestrel.report.page import write_page

            title = str(result.model_dump()["format"]).split("/")[1].replace("-", " ")
            whole = dict.fromkeys(how, True)
            write_page(title.capitalize(), blocks_of(result, **whole), output.out)
    if output.json:
        print_json(result.model_dump(mode="json"))
    else:
        from eager_kestrel.cli.rendering import show
        from eager_kestrel.report.blocks import blocks_of

        show(blocks_of(result, **how))
