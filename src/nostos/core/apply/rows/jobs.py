"""What a system does by itself at a time: the jobs of rows travel with them, in the system's own list of jobs.

The list is the setting in which the PHP system keeps it: by time (seconds), by name, by a digest of what the job is
given, entries of how often it recurs and what it is given. Every job that is not of such a row stays as it is.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.habits import Job
from nostos.core.profiles.model import Profile
from nostos.core.values import php

Touched = tuple[str, Value, Row | None, Row | None]  # table, key, and the row before and after


def settle_jobs(profile: Profile, database: Database, tables: dict[str, Table], touched: Iterable[Touched]) -> None:
    """Bring the lists of jobs up to what was done to rows. database: in the transaction that did it."""
    settings = profile.settings
    if settings is None or settings.table not in tables:
        return
    touched = list(touched)
    for job in profile.jobs:
        mine = [(key, _time(job, before), _time(job, after)) for table, key, before, after in touched
                if table == job.table]
        changes = [(key, old, new) for key, old, new in mine if old != new]
        table = tables[settings.table]
        rows = database.find(table, {settings.name: job.setting}) if changes else []
        if not rows:
            continue
        row = next(iter(database.locked(table, [table.key_of(rows[0])])), None)
        jobs = _read(row[settings.value]) if row is not None else None
        if row is None or jobs is None:
            continue
        for key, old, new in changes:
            if old is not None:
                _drop(jobs, job, old, key)
            if new is not None:
                _add(jobs, job, new, key)
        database.update(table, table.key_of(row), {settings.value: php.write(_in_order(jobs))})


def _time(job: Job, row: Row | None) -> int | None:
    """When a row's job is due, in seconds since 1970; None where it has none."""
    if row is None or not holds(job.where, row):
        return None
    try:
        return int(datetime.fromisoformat(str(row[job.time])).replace(tzinfo=UTC).timestamp())
    except ValueError:
        return None


def _read(value: Value) -> dict[Any, Any] | None:
    try:
        data = php.read(value) if isinstance(value, str) else None
    except ValueError:
        return None
    return data if isinstance(data, dict) else {} if data == [] else None


def _digest(key: Value) -> str:
    return hashlib.md5(php.write([key]).encode(), usedforsecurity=False).hexdigest()  # as the system itself does


def _add(jobs: dict[Any, Any], job: Job, at: int, key: Value) -> None:
    due = jobs.setdefault(at, {})
    if isinstance(due, dict):
        due.setdefault(job.name, {})[_digest(key)] = {"schedule": False, "args": [key]}


def _drop(jobs: dict[Any, Any], job: Job, at: int, key: Value) -> None:
    due = jobs.get(at)
    named = due.get(job.name) if isinstance(due, dict) else None
    if isinstance(due, dict) and isinstance(named, dict) and named.pop(_digest(key), None) is not None:
        if not named:
            del due[job.name]
        if not due:
            del jobs[at]


def _in_order(jobs: dict[Any, Any]) -> dict[Any, Any]:
    times = sorted(k for k in jobs if isinstance(k, int))
    return {**{t: jobs[t] for t in times}, **{k: v for k, v in jobs.items() if not isinstance(k, int)}}
