"""Results as JSON-like data, for `--json`. Documented in docs/json.md; keys are added, never changed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nostos.core.plan import conditions
from nostos.core.plan.operations import PutFile, as_data
from nostos.core.values.merging import ABSENT
from nostos.core.values.structures import jsonable
from nostos.show.learning import question

if TYPE_CHECKING:  # it brings along what visits sites
    from nostos.around.trial.watch import Watched
    from nostos.core.apply.merge import MergeResult
    from nostos.core.backup.outlook import Outlook
    from nostos.core.backup.restore import RestoreResult
    from nostos.core.backup.write import BackupResult
    from nostos.core.compare.items import Comparison, Item
    from nostos.core.plan.needs import Needs
    from nostos.core.plan.prepared import PreparedMerge


def item(shown: Item, needs: Needs, describe: Any = str, fields: bool = True) -> dict[str, Any]:
    described: dict[str, Any] = {
        "item": shown.id, "kind": shown.kind, "title": shown.title, "part_of": shown.part_of,
        "change": shown.change,
        "standing": str(shown.standing), "visitors": shown.visitors, "goes_home": shown.id in needs,
        "reason": shown.reason,
        "needs": [{"item": n.on, "reason": n.reason} for n in needs.get(shown.id, ())]}
    if fields:
        described["fields"] = [
            {"field": f.name, "standing": str(f.standing), "policy": str(f.merged.policy),
             **{side: _described(value, describe) for side, value in
                (("anchor", f.merged.base), ("live", f.merged.target), ("staging", f.merged.source))
                if value is not ABSENT}}
            for f in shown.fields]
    return described


def _described(value: Any, describe: Any) -> Any:
    value = jsonable(value)
    if isinstance(value, str):
        return describe(value)
    if isinstance(value, dict):
        return {k: _described(v, describe) for k, v in value.items()}
    return [_described(v, describe) for v in value] if isinstance(value, list) else value


def comparison(comparison: Comparison, needs: Needs, fields: bool = False, describe: Any = str) -> dict[str, Any]:
    return {"items": [item(i, needs, describe, fields) for i in comparison.items.values()],
            "questions": [question(q) for q in comparison.questions], "not_compared": comparison.rows.skipped,
            "exported_otherwise": list(comparison.exported)}


def plan(prepared: PreparedMerge) -> dict[str, Any]:
    selection = prepared.plan.selection
    return {
        "chosen": [{"item": c.item.id, "change": c.item.change,
                    "because": {"item": c.because.item, "reason": c.because.reason} if c.because else None}
                   for c in selection.chosen],
        "left": [i.id for i in selection.left],
        "decided_for_live": [i.id for i in selection.kept],
        "warnings": list(selection.warnings),
        "notes": list(prepared.made.notes),
        "open": [{"item": i.id, "reason": i.reason} for i in selection.waiting],
        "clashes": [{"item": i.id, "reason": i.reason} for i in selection.clashes],
        "operations": [as_data(o) for o in prepared.plan.operations],
        "conditions": [conditions.as_data(c) for c in prepared.plan.conditions]}


def backed_up(result: BackupResult) -> dict[str, Any]:
    return {"file": str(result.path), "site": result.site, "made": result.made, "tables": result.tables,
            "rows": result.rows, "files": result.files, "bytes": result.size,
            "bytes_before_compression": result.content,
            "left_out": [{"path": p.path, "reason": p.reason} for p in result.passed],
            "seconds": round(result.seconds, 3)}


def outlook(outlook: Outlook) -> dict[str, Any]:
    return {"backup_of": outlook.contents.manifest.site, "made": outlook.contents.manifest.made,
            "lost": dict(outlook.lost),
            "as_they_were": dict(outlook.changed), "come_back": dict(outlook.back),
            "tables_back": list(outlook.tables_back),
            "tables_that_stay": list(outlook.stay),
            "files": [{"path": o.path, "put": isinstance(o, PutFile)} for o in outlook.files],
            "left_out": list(outlook.left_out)}


def restored(result: RestoreResult, anew: bool) -> dict[str, Any]:
    return {"restore": result.id, "replaced_is_in": None if anew else str(result.safety), "rows": result.rows,
            "late": result.late, "seconds": round(result.seconds, 3),
            "seconds_between_states": round(result.between, 4)}


def watched(watched: Watched | None, undone: MergeResult | None, again: Watched | None) -> dict[str, Any]:
    """What a watch saw, if there was one."""
    if watched is None:
        return {}
    result: dict[str, Any] = {"watched": {"visited": watched.visited, "failing": watched.failing}}
    if undone is not None:
        result["taken_back"] = {"undo": undone.id, "still_failing": [p.path for p in again.failing] if again else []}
    return result


def merged(result: MergeResult) -> dict[str, Any]:
    return {
        "merge": result.id, "seconds": round(result.seconds, 3), "seconds_between_states": round(result.between, 4),
        "seconds_locked": round(result.locked, 4),
        "tries": result.tries, "late": result.late, "carried": list(result.carried),
        "dangling": list(result.dangling),
        "renumbered": [{"table": t, "staging": s, "live": n} for t, s, n in result.renumbered],
        "clashes": [{"item": i.id, "reason": i.reason} for i in result.clashes],
        "ledger": [{"kind": line.kind, "gained": line.gained, "edited": line.edited, "removed": line.removed,
                    "blended": line.blended, "before": line.before, "after": line.after,
                    "holds": line.holds} for line in result.ledger]}
