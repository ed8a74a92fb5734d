"""Holding settings against guides and the line."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from eager_kestrel.actions.shows import destination
from eager_kestrel.core.checks.rules import Findings
from eager_kestrel.core.checks.rules import check as hold
from eager_kestrel.core.checks.settings import Settings, settings_of
from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.document import first_error, format_name
from eager_kestrel.core.errors import FormatError, InputError, KestrelError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.show.show import SAFE_SHARE, Reserve
from eager_kestrel.files.guides import load_guide
from eager_kestrel.files.home import storage_error
from eager_kestrel.files.toml import read_model


def read_settings(path: Path, platform: str | None = None) -> Settings:
    """Settings from TOML or JSON, or those of a plan.

    Args:
        path: the file.
        platform: which destination of a plan; the first when it has none of that name.

    Raises:
        FormatError: it is neither settings nor a plan; names line or key.
        StorageError: it cannot be read.
    """
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise storage_error(error, str(path)) from None
    if not raw.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return read_model(raw, Settings, "settings", str(path))
    try:
        document = json.loads(raw)
        if document.get("format") == format_name("plan"):
            return _of_plan(Plan.model_validate(document), platform, str(path))
        return Settings.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "correct it", str(path)) from None
    except (ValueError, RecursionError) as error:
        line = getattr(error, "lineno", 1)
        raise FormatError("not JSON", "correct it", f"{path}:{line}") from None


def settings_from(path: Path | None, given: dict[str, Any], platform: str) -> Settings:
    """A file's settings, if any, with what was given in words over them.

    Args:
        path: settings or a plan.
        given: as in a settings file; None where nothing was said.
        platform: which destination of a plan.

    Raises:
        InputError: what was given cannot be read, or nothing was.
        FormatError: the file is neither settings nor a plan.
    """
    base = {} if path is None else read_settings(path, platform).model_dump(exclude_none=True)
    merged = {**base, **{key: value for key, value in given.items() if value is not None}}
    for part in ("video", "audio"):
        said = {key: value for key, value in given.get(part, {}).items() if value is not None}
        merged[part] = {**base.get(part, {}), **said}
    try:
        return Settings.model_validate(merged)
    except ValidationError as error:
        raise InputError(first_error(error)) from None


def _of_plan(plan: Plan, platform: str | None, where: str) -> Settings:
    chosen = next((d for d in plan.destinations if d.platform == platform), plan.destinations[0])
    if not chosen.feasible:
        raise FormatError(f"the plan has no settings for {chosen.title}", "plan again", where)
    return settings_of(chosen)


def guides_of(platforms: list[str], guides: Path | None = None) -> list[tuple[Guide, str | None]]:
    """Guides by name, each with the standing that was written.

    Raises:
        NotFoundError: a platform or standing is not known.
    """
    wanted = [destination(written) for written in platforms]
    held = [(load_guide(d.platform, guides), d.standing) for d in wanted]
    for guide, standing in held:
        guide.under(standing)
    return held


def check(
    settings: Settings,
    platforms: list[str],
    guides: Path | None = None,
    uplink: Uplink | None = None,
    safe_share: float = SAFE_SHARE,
    reserves: tuple[Reserve, ...] = (),
) -> Findings:
    """Hold settings against one or several guides and, when it is known, against the line.

    Args:
        settings: what is set.
        platforms: each ``PLATFORM`` or ``PLATFORM:STANDING``.
        guides: a folder whose guides come first.
        uplink: what the line carries.
        safe_share: of it that a stream may take.
        reserves: kept back from it.

    Raises:
        NotFoundError: a platform or standing is not known.
    """
    ruled = guides_of(platforms, guides)
    safe = None if uplink is None else budget(uplink, safe_share, reserves).safe_kbps
    return hold(settings, ruled, safe)


def check_many(paths: list[Path], platforms: list[str]) -> dict[Path, Findings | KestrelError]:
    """Check each of many files against the same guides, read once.

    An unreadable file gives its error in place of findings.
    """
    ruled = guides_of(platforms)
    outcome: dict[Path, Findings | KestrelError] = {}
    for path in paths:
        try:
            outcome[path] = hold(read_settings(path), ruled)
        except KestrelError as error:
            outcome[path] = error
    return outcome
