"""Looking back on a show that was watched, and kept airings as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.planning import plan, uplink_for
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.core.watching.review import Review, review_of
from eager_kestrel.core.words import airings as words
from eager_kestrel.files.history import History
from eager_kestrel.files.plans import LATEST, latest_plan, read_plan
from eager_kestrel.files.shows import USUAL

if TYPE_CHECKING:
    from eager_kestrel.core.line.airing import Broadcast
    from eager_kestrel.core.plan.plan import DestinationPlan


def review(
    name: str = LATEST, planned: str = LATEST, show: str | None = None, guides: Path | None = None
) -> Review:
    """Look back on an airing.

    Args:
        name: its id, the beginning of one, or ``latest``.
        planned: the plan it was sent by: a file, or the latest.
        show: to plan again with this airing counted; else the one of this folder, if there is one.
        guides: a folder whose guides come first.

    Raises:
        NotFoundError: no such airing is kept.
        FormatError: the plan is none.
    """
    with History() as history:
        airing = history.find_airing(name)
    made = latest_plan() if planned == LATEST else read_plan(planned)
    fitting = [there for there in (made.destinations if made else ()) if there.feasible]
    there = next((one for one in fitting if one.platform == airing.platform), None)
    found = review_of(airing, there)
    again = _again(airing, there, show, guides)
    if again is None:
        return found
    return found.model_copy(update={"next_time": (*found.next_time, again)})


def _again(
    airing: Broadcast, there: DestinationPlan | None, show: str | None, guides: Path | None
) -> str | None:
    """What the show's plan comes to with this airing counted; None where that is not known."""
    if show is None and not Path(USUAL).is_file():
        return None
    try:
        asked = asked_show(show, ShowOptions()).show
        uplink, _ = uplink_for(asked)
        made = plan(asked, uplink, guides).plan
    except KestrelError:
        if show is not None:
            raise
        return None
    now = next((one for one in made.destinations if one.platform == airing.platform), None)
    if now is None or now.video is None or airing.id not in uplink.airings:
        return None
    before = there.video.words if there is not None and there.video is not None else None
    return words.again_from(now.video.words, before)
