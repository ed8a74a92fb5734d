"""Transport: the first that the platform prefers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.core.settings.setting import Guides, Held, Rule, Rules, Setting, nearest, one_of

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.values import Settings


def _rule(found: Held, guide: Guide) -> Rules:
    if found.settings.transport is not None:
        yield one_of("transports", found.settings.transport, guide.transports)


def _instead(settings: Settings, guides: Guides, _: float) -> Settings:
    transport = nearest(settings.transport, [guide.transports for guide in guides])
    return settings.model_copy(update={"transport": transport})


TRANSPORT = Setting(
    name="transport",
    keys=("transports",),
    rules=(Rule(_rule, ("transport",)),),
    instead=_instead,
)
