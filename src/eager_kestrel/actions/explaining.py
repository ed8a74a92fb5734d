"""Explain the words of the trade with the numbers of the latest plan."""

from __future__ import annotations

from eager_kestrel.core.plan.glossary import Explained, Glossary, explained, numbers_of
from eager_kestrel.core.results import TermList
from eager_kestrel.files.bundled import bundled_toml
from eager_kestrel.files.plans import latest_plan


def terms() -> TermList:
    """Every word that is explained."""
    return TermList(terms=tuple(sorted(glossary().terms)))


def glossary() -> Glossary:
    """Every word."""
    return Glossary.model_validate(bundled_toml("terms.toml"))


def explain(word: str) -> Explained:
    """What a word means, and what it comes to in the latest plan.

    Raises:
        NotFoundError: the word is not known; suggests the nearest.
    """
    name, term = glossary().find(word)
    plan = latest_plan()
    if plan is None:
        return explained(name, term, {}, None)
    title = plan.inputs.title or "your stream"
    where = " and ".join(there.title for there in plan.destinations)
    return explained(name, term, numbers_of(plan), f"your latest plan: {title} on {where}")
