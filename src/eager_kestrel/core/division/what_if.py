"""``need`` and sweeps of a show with several destinations: each answer is for the whole show."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from eager_kestrel.core.choice.budget import Budget, budget
from eager_kestrel.core.choice.need import REFERENCE
from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.sweep import Range, values_of
from eager_kestrel.core.choice.turning_points import full_rate_for
from eager_kestrel.core.choice.what_if import Beside, Need, Point, Sweep
from eager_kestrel.core.division.answers import Answer, Answers, Served, upload_of
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.line.uplink import Uplink, assumed_uplink
from eager_kestrel.core.picture import Picture, frame_rate_text
from eager_kestrel.core.show.show import MOTIONS, Show

MOST_KBPS = 80_000.0
"""The largest safe rate that is looked at."""
LESS = 0.99
"""Of the upload that is named, at which the picture is not given any more."""


def needs(
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    pictures: Sequence[Picture] | None = None,
    fps: float = 0.0,
) -> tuple[Need, ...]:
    """The upload at which the plan of a whole show gives each destination a picture.

    Args:
        show: with several destinations.
        guides: of each, with its standing applied.
        table: of the quality model.
        pictures: which; all the candidates when none are named.
        fps: frames a second at the least; 0 takes any.
    """
    answers = Answers.of(show, guides, table, MOST_KBPS)
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    top = answers.at(MOST_KBPS)
    found: list[Need] = []
    for m, (guide, there) in enumerate(zip(guides, top, strict=True)):
        if there is None:
            continue
        every = sorted({c.picture for c in there.field.candidates}, key=lambda p: p.pixels)
        for picture in pictures or every:

            def gives(answer: Answer, m: int = m, picture: Picture = picture) -> bool:
                served = answer[m]
                return served is not None and _is(served.option, picture, fps)

            hit = _lowest(answers, gives, answers.least(gives), waterfall)
            served = None if hit is None else hit[1][m]
            option = None if served is None else served.option
            rate = float(frame_rate_text(option.frame_rate)) if option else 0.0
            need = Need(
                platform=guide.name,
                standing=guide.standing,
                picture=str(picture),
                fps=fps or rate,
                upload_kbps=None if hit is None else upload_of(waterfall, hit[0]),
                gives=option,
            )
            found.append(need if option else _forced(need, there, picture, fps, show))
    return tuple(found)


def _lowest(
    answers: Answers,
    gives: Callable[[Answer], bool],
    hit: tuple[float, Answer] | None,
    waterfall: Budget,
) -> tuple[float, Answer] | None:
    """The hit, or one below it that filling up a cell gives: a hundredth less upload gives none."""
    while hit is not None:
        safe = waterfall.safe_of(LESS * upload_of(waterfall, hit[0]))
        answer = answers.at(safe)
        if safe <= 0 or not gives(answer):
            return hit
        hit = (safe, answer)
    return None


def _is(option: Option, picture: Picture, fps: float) -> bool:
    return option.picture == picture and float(option.frame_rate) >= fps - 1e-9


def _forced(need: Need, there: Served, picture: Picture, fps: float, show: Show) -> Need:
    """Of a picture no plan gives: the most that can be made of it, beside what the others take."""
    most = full_rate_for(there.field, picture, fps)
    if most is None:
        return need
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    return need.model_copy(
        update={
            "forced": most[1],
            "forced_upload_kbps": upload_of(waterfall, most[0] + there.others_kbps),
            "better": there.option,
        }
    )


def sweep_show(
    wanted: Range,
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    uplink: Uplink | None,
) -> Sweep:
    """What every destination gets at each value, everything else as it is.

    Args:
        wanted: what to vary.
        show: with several destinations.
        guides: of each, with its standing applied; standings are those of the first.
        table: of the quality model.
        uplink: for everything but a sweep of uploads, which needs none.
    """
    along: list[tuple[str, float | None, float, Answer]] = []
    if wanted.over in ("upload", "share"):
        named = values_of(wanted, show, uplink)
        answers = Answers.of(show, guides, table, max(safe for _, _, safe in named))
        along = [(name, value, safe, answers.at(safe)) for name, value, safe in named]
    else:
        assert uplink is not None
        safe = budget(uplink, show.safe_share, show.reserves).safe_kbps
        for name, changed, ruled in _variants(wanted, show, guides):
            answer = Answers.of(changed, ruled, table, safe).at(safe)
            along.append((name, None, safe, answer))
    return Sweep(
        platform=guides[0].name,
        over=wanted.over,
        points=tuple(
            Point(at=name, value=value, safe_kbps=round(safe, 3), chosen=_option(answer[0]))
            for name, value, safe, answer in along
        ),
        beside=tuple(
            Beside(
                platform=guide.label,
                chosen=tuple(_option(answer[m]) for _, _, _, answer in along),
            )
            for m, guide in enumerate(guides)
            if m
        ),
    )


def _option(served: Served | None) -> Option | None:
    return None if served is None else served.option


def _variants(
    wanted: Range, show: Show, guides: Sequence[Guide]
) -> list[tuple[str, Show, Sequence[Guide]]]:
    if wanted.over == "motion":
        return [(m, show.model_copy(update={"motion": m}), guides) for m in MOTIONS]
    first = guides[0].ordinary
    return [
        (standing or "ordinary", show, [first.under(standing), *guides[1:]])
        for standing in (None, *first.standings)
    ]
