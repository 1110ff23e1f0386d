"""Reading profiles: the built-in ones and those that a site file names."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import fields, replace
from functools import cache
from importlib import resources
from typing import Any

from nostos.core.errors import SiteError
from nostos.core.hosts.far_path import AnyPath
from nostos.core.profiles.conditions import Where
from nostos.core.profiles.habits import Along, Job, Numbered, Slug, Together
from nostos.core.profiles.model import Profile
from nostos.core.profiles.network import Network
from nostos.core.profiles.parts import (
    GROUPS,
    MASK_KINDS,
    Activity,
    Administrators,
    Child,
    Closed,
    Configuration,
    CounterRule,
    Exported,
    FieldPolicy,
    Folder,
    Framework,
    GuardFile,
    Join,
    Kind,
    MaskRule,
    OwnedFile,
    PathNames,
    Pointers,
    ProfileCaution,
    ProgramQuestion,
    Reference,
    SettingsTable,
    Through,
    Version,
    WrittenRows,
)
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import policy_named
from nostos.core.profiles.row_trees import NestedTree, RowTree

# What a file may add to the profile of a site.
ADDITIONS = frozenset({"kind", "child", "reference", "markup", "join", "file", "folder", "files", "tables", "policy",
                       "setting-policy", "derived", "clear", "caution", "activity", "mask", "tree", "nested-tree",
                       "unique", "mind", "numbers", "slug", "job", "together", "along", "numbered", "prefixed",
                       "closed", "written", "pointers", "whose", "protects"})
_DEEPEST = 5  # profiles that build upon one another


class _BuiltIn(Mapping[str, Profile]):
    """The profiles that ship with Nostos, by the names of their files. Each is read when it is asked for."""

    def __init__(self) -> None:
        self._texts = {e.name.removesuffix(".toml"): e for e in sorted(
            resources.files("nostos.core.profiles").iterdir(), key=lambda e: e.name) if e.name.endswith(".toml")}
        self._read: dict[str, Profile] = {}

    def __getitem__(self, name: str) -> Profile:
        if name not in self._read:
            self._read[name] = parse(self.text(name), f"{name}.toml")
        return self._read[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._texts)

    def __len__(self) -> int:
        return len(self._texts)

    def text(self, name: str) -> str:
        """The file of a profile, unread."""
        return self._texts[name].read_text(encoding="utf-8")


@cache
def built_in() -> _BuiltIn:
    """The profiles that ship with Nostos, by name."""
    return _BuiltIn()


@cache
def configurations() -> Mapping[str, Configuration]:
    """By the names of built-in profiles: the configuration file of their system, where it has one of its own. Read
    from what stands before a file's first list of parts, for every command asks it of every profile."""
    known = {}
    for name in built_in():
        head = built_in().text(name).partition("\n[[")[0]
        configuration = _configuration(tomllib.loads(head))
        if configuration is not None:
            known[name] = configuration
    return known


def load(name_or_path: str, folder: AnyPath) -> Profile:
    """A built-in profile by name, or one from a `.toml` file; a relative path starts at `folder`.

    Raises SiteError when there is none, or when it says something that a profile cannot say.
    """
    if not name_or_path.endswith(".toml"):
        if name_or_path in built_in():
            return built_in()[name_or_path]
        known = ", ".join(sorted(built_in()))
        raise SiteError(f"There is no profile named {name_or_path!r}.",
                        next_step=f"Built-in profiles: {known}. A path must end in .toml.")
    path = folder / name_or_path
    try:
        text = path.read_bytes().decode()
    except (OSError, UnicodeDecodeError) as error:
        raise SiteError(f"The profile {path} cannot be read: {error}.", next_step="Check its path.") from error
    return parse(text, str(path), path.parent)


def parse(text: str, source: str, folder: AnyPath | None = None, deep: int = 0) -> Profile:
    """A profile from TOML text; `source` names it in messages. folder: where the path of a profile that it builds upon
    begins. Raises SiteError with the part that is wrong."""
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise SiteError(f"The profile {source} is not valid TOML: {error}.", next_step="Mend the file.") from error
    try:
        profile = Profile(name=data["profile"]["name"], title=data["profile"]["title"], **_parts(data))
        base = data["profile"].get("extends")
        return profile if base is None else replace(
            extended(_base(str(base), folder, deep), profile), name=profile.name, title=profile.title)
    except (KeyError, ValueError, TypeError, AttributeError, OSError) as error:
        reason = f"{error.args[0]!r} is missing" if isinstance(error, KeyError) else str(error)
        raise SiteError(f"The profile {source} cannot be used: {reason}.",
                        next_step="Compare it with docs/profiles.md.") from error


def _base(name: str, folder: AnyPath | None, deep: int) -> Profile:
    """The profile that another one builds upon."""
    if deep >= _DEEPEST:
        raise ValueError("profiles build upon one another in a circle")
    if name.endswith(".toml"):
        if folder is None:
            raise ValueError(f"it cannot build upon {name}, a file")
        path = folder / name
        return parse(path.read_bytes().decode(), str(path), path.parent, deep + 1)
    if name not in [*built_in()]:
        raise ValueError(f"there is no profile {name!r} to build upon")
    return parse(built_in().text(name), f"{name}.toml", None, deep + 1)


def additions(data: dict[str, Any], source: str) -> Profile:
    """What a file adds to a profile, as a profile of its own. data: parts of one, by their names. Raises SiteError."""
    unknown = set(data) - ADDITIONS
    try:
        if unknown:
            raise ValueError(f"it says {', '.join(sorted(unknown))}; known are {', '.join(sorted(ADDITIONS))}")
        return Profile(name=source, title=source, **_parts(data))
    except (KeyError, ValueError, TypeError, AttributeError) as error:
        reason = f"{error.args[0]!r} is missing" if isinstance(error, KeyError) else str(error)
        raise SiteError(f"What {source} adds cannot be used: {reason}.",
                        next_step="Compare it with docs/profiles.md.") from error


def extended(base: Profile, more: Profile) -> Profile:
    """A profile with what another one adds: what that says comes first, so that it counts where both say something."""
    merged: dict[str, Any] = {}
    for f in fields(Profile):
        old, new = getattr(base, f.name), getattr(more, f.name)
        if isinstance(old, tuple):
            said = set(new)
            merged[f.name] = (*new, *(part for part in old if part not in said))
        elif isinstance(old, Mapping):
            merged[f.name] = {**old, **new}
        elif isinstance(old, frozenset):
            merged[f.name] = old | new
        elif f.name not in ("name", "title"):
            merged[f.name] = new or old
    taken = {c.table for c in more.children if not c.where}
    merged["kinds"] = tuple(k for k in merged["kinds"] if k in more.kinds or k.table not in taken)
    return replace(base, **merged)


def relocated(profile: Profile, moved: Mapping[str, str]) -> Profile:
    """A profile for a site whose folders are elsewhere in its tree. moved: by the usual folders, where they are."""
    def at(path: str) -> str:
        usual = max((u for u in moved if path == u or path.startswith(u + "/")), key=len, default="")
        return moved[usual] + path[len(usual):] if usual else path

    if not moved:
        return profile
    return replace(
        profile, ignore=tuple(map(at, profile.ignore)),
        files=tuple(replace(f, folder=at(f.folder)) for f in profile.files),
        folders=tuple(replace(f, parent=at(f.parent)) for f in profile.folders),
        guard_file=replace(profile.guard_file, path=at(profile.guard_file.path)) if profile.guard_file else None)


def _where(entry: dict[str, Any]) -> Where:
    return tuple((k, str(v)) for k, v in entry.get("where", {}).items())


def _column(entry: dict[str, Any]) -> tuple[str, str]:
    table, _, column = entry["column"].rpartition(".")
    if not table:
        raise ValueError(f"{entry['column']!r} is not written as table.column")
    return table, column


def _names(value: str | list[str]) -> tuple[str, ...]:
    return (value,) if isinstance(value, str) else tuple(value)


def _reference(entry: dict[str, Any]) -> Reference:
    table, column = _column(entry)
    if not entry.get("to") and not entry.get("to_folder"):
        raise ValueError(f"the reference {entry['column']!r} has neither `to` nor `to_folder`")
    pattern = entry.get("pattern")
    if pattern is not None and re.compile(pattern).groups != 1:
        raise ValueError(f"the pattern {pattern!r} needs exactly one group")
    path = tuple(entry["path"].split(".")) if "path" in entry else None
    return Reference(table, column, entry.get("to", ""), entry.get("to_column"), entry.get("to_folder", ""),
                     _where(entry), path, pattern, bool(entry.get("many", False)), weak=bool(entry.get("weak", False)),
                     keys=bool(entry.get("keys", False)))


def _exported(entry: dict[str, Any]) -> Exported:
    return Exported(*_column(entry), entry["name"], _where(entry), entry["mark"])


def _masked(entry: dict[str, Any]) -> MaskRule:
    if entry["kind"] not in MASK_KINDS:
        raise ValueError(f"the mask of {entry['column']!r} has no kind {entry['kind']!r}")
    return MaskRule(*_column(entry), entry["kind"], _where(entry), entry.get("owner", ""))


def _kind(k: dict[str, Any]) -> Kind:
    return Kind(k["name"], k["table"], _where(k), _names(k.get("label", [])), k.get("title"),
                tuple(k.get("identity", [])), k.get("born"), k.get("visitors", False), k.get("strip", ""),
                k.get("volatile", False), k.get("address", ""), _where({"where": k.get("shown", {})}),
                k.get("top", ""),
                gone=_where({"where": k.get("gone", {})}), account=k.get("account", False),
                group=_group(k), tied=k.get("tied", False),
                bound=k.get("bound", False))


def _folder(entry: dict[str, Any]) -> Folder:
    parent, _, name = entry["path"].rpartition("/")
    return Folder(entry["kind"], parent, entry.get("manifest"), tuple(entry.get("owns", [])),
                  "" if name == "*" else name, _version(entry), tuple(entry.get("offers", [])), _group(entry),
                  entry.get("noted", ""))


def _group(entry: dict[str, Any]) -> str:
    group: str = entry.get("group", "")
    if group and group not in GROUPS:
        raise ValueError(f"there is no group {group!r}: it is one of {', '.join(GROUPS)}")
    return group


def _configuration(data: Mapping[str, Any]) -> Configuration | None:
    c = data.get("configuration")
    return None if c is None else Configuration(c["file"], c["format"], c["name"], c["url"], c["database"],
                                                c.get("engine", ""))


def _parts(data: dict[str, Any]) -> dict[str, Any]:
    """The parts of a profile, by their names in `Profile`."""
    settings = None
    if "settings" in data:
        s = data["settings"]
        settings = SettingsTable(s["table"], s["name"], s["value"], s["format"])
    kinds = tuple(map(_kind, data.get("kind", [])))
    kind_tables = {k.table for k in kinds}
    children = [Child(c["table"], c["of"], c.get("owner") or "", c["name"], _names(c["label"]), _where(c),
                      c.get("repeats", False)) for c in data.get("child", [])]
    volatile = tuple(data.get("tables", {}).get("volatile", []))
    for child in children:
        if child.table in kind_tables and not child.where:
            raise ValueError(f"table {child.table!r} is both a kind and a child")
    return {
        "recognise_tables": tuple(data.get("recognise", {}).get("tables", [])),
        "configuration": _configuration(data),
        "settings": settings,
        "guards": dict(data.get("guards", {}).get("settings", {})),
        "kinds": kinds,
        "children": tuple(children),
        "references": (*(_reference(r) for r in data.get("reference", [])), *_markup(data.get("markup", []))),
        **{name: tuple(OwnedFile(*_column(f), f["folder"], _where(f), f.get("variants", ""), begins=f.get("begins", ""))
                    for f in data.get("file", []) if f.get("made", False) is made)
           for name, made in (("files", False), ("made_files", True))},
        "folders": tuple(_folder(f) for f in data.get("folder", [])),
        "ignore": tuple(data.get("files", {}).get("ignore", [])),
        "volatile": volatile,
        "policies": (*(FieldPolicy(*_column(p), policy_named(p["policy"]), _where(p), tuple(_path(p)))
                    for p in data.get("policy", [])), *_setting_policies(data.get("setting-policy", []), settings)),
        "derived": tuple(CounterRule(*_column(d), d["counts"], d["by"], _where(d), _through(d))
                      for d in data.get("derived", [])),
        "clear": tuple(data.get("clear", {}).get("tables", [])),
        "clear_settings": tuple(data.get("clear", {}).get("settings", [])),
        "joins": tuple(Join(j["table"], j["name"], j["from"], tuple(j["on"].items()), j["column"], _where(j),
                            _where({"where": j.get("only", {})}), tuple(
                                Through(v["table"], v["by"], _where(v)) for v in j.get("via", [])),
                            tuple(v["column"] for v in j.get("via", []))) for j in data.get("join", [])),
        **_habits(data),
        "guard_file": _guard_file(data.get("guards", {}).get("file")),
        "called": PathNames(*(data["paths"][k] for k in ("table", "path", "called"))) if "paths" in data else None,
        "exported": _exported(data["exported"]) if "exported" in data else None,
        "entities": data.get("entities", {}).get("defined_in", ""),
        "given": _names(data.get("numbers", {}).get("given", [])),
        "network": _network(data["network"]) if "network" in data else None,
        "serve": _names(data.get("serve", {}).get("command", [])),
        "question": ProgramQuestion(data["ask"]["program"], _template(data["ask"])) if "ask" in data else None,
        "gate_setting": data.get("guards", {}).get("gate", ""),
        "cautions": tuple(ProfileCaution(tuple(c["tables"]), c["what"], c["why"], c["remedy"])
                       for c in data.get("caution", [])),
        "activities": tuple(Activity(a["name"], a["table"], a["time"], _where(a), a.get("local", False),
                                  a.get("visitors", True)) for a in data.get("activity", [])),
        "masks": tuple(_masked(m) for m in data.get("mask", [])),
        "administrators": Administrators(data["administrators"]["table"], data["administrators"]["key"],
                                      _where(data["administrators"])) if "administrators" in data else None,
        "zone_settings": _names(data.get("tide", {}).get("zone", [])),
        "trees": tuple(RowTree(**{**t, "inherited": tuple(t.get("inherited", ()))}) for t in data.get("tree", [])),
        "minds": tuple((m["table"], _where(m), m["says"]) for m in data.get("mind", [])),
        "uniques": tuple(_column({"column": c}) for c in data.get("unique", {}).get("columns", [])),
        "numbers": frozenset(map(Place.parse, data.get("numbers", {}).get("places", []))),
        "closed": tuple(Closed(c.get("table", ""), column, c.get("key", ""), _names(c.get("names", [])),
                               _names(c.get("steps", [])), _names(c.get("having", [])))
                        for c in data.get("closed", []) for column in _names(c["column"])),
        "framework": _framework(data["framework"]) if "framework" in data else None,
        "written": tuple(WrittenRows(*_column(w), w["key"], w["strip"]) for w in data.get("written", [])),
        "pointers": Pointers(**data["pointers"]) if "pointers" in data else None,
        "protects": tuple((p["table"], _where(p)) for p in data.get("protects", [])),
        "history": _names(data.get("tables", {}).get("history", [])),
        "visitor_tables": _names(data.get("whose", {}).get("visitors", [])),
        "editor_tables": _names(data.get("whose", {}).get("editors", [])),
        "nested": tuple(NestedTree(**t) for t in data.get("nested-tree", [])),
        "prefixed": tuple((*_column({"column": c}), tuple(p)) for c, p in data.get("prefixed", {}).items()),
    }


def _framework(data: dict[str, Any]) -> Framework:
    return Framework(
        data.get("types", ""), _names(data.get("names", [])), data.get("between", ""), data.get("type", ""),
        _names(data.get("numbers", [])), _names(data["keys"]),
        tuple((t, _names(n)) for t, n in data.get("tables", {}).items()), bool(data.get("texts", False)))


def _network(data: dict[str, Any]) -> Network:
    return Network(data["sites"], data["key"], data["domain"], data["path"], frozenset(data["tables"]), data["files"],
                   data["folder"], data.get("first", 1))


def _habits(data: dict[str, Any]) -> dict[str, Any]:
    """What the system does by itself, by its names in `Profile`."""
    return {
        "slugs": tuple(Slug(*_column(a), _names(a.get("within", [])), tuple(
            (c, _names(p)) for c, p in a.get("unless", {}).items())) for a in data.get("slug", [])),
        "jobs": tuple(Job(j["table"], j["time"], j["setting"], j["name"], _where(j)) for j in data.get("job", [])),
        "numbered": tuple(Numbered(n["setting"], n.get("strip", ""), n["mentions"]) for n in data.get("numbered", [])),
        "along": tuple(Along(*_column(a), _where(a)) for a in data.get("along", [])),
        "together": tuple(Together(tuple(t["items"]), t["file"]) for t in data.get("together", [])),
    }


def _markup(entries: list[dict[str, Any]]) -> Iterator[Reference]:
    """The same patterns, paths, and places in texts, in several columns; wherever in a structure these texts are."""
    for entry in entries:
        for column in entry["columns"]:
            for pattern in entry.get("patterns", []):
                yield _reference({**entry, "column": column, "pattern": pattern})
            for path in entry.get("paths", []):
                yield _reference({**entry, "column": column, "path": path})
            for step in entry.get("steps", []):
                one = _reference({**entry, "column": column})
                yield from (replace(one, path=path) for path in ((step,), ("**", step)))


def _setting_policies(entries: list[dict[str, Any]], settings: SettingsTable | None) -> Iterator[FieldPolicy]:
    """Policies of settings, by their names."""
    for entry in entries:
        if settings is None:
            raise ValueError("there are policies of settings, but no [settings]")
        for name in entry["names"]:
            yield FieldPolicy(settings.table, settings.value, policy_named(entry["policy"]), ((settings.name, name),))


def _version(entry: dict[str, Any]) -> Version | None:
    v = entry.get("version")
    if v is None:
        return None
    if re.compile(v["pattern"]).groups != 1 or ".." in v["files"] or v["files"].startswith("/"):
        raise ValueError(f"the version of {entry['kind']} needs files inside its folder, and a pattern with one group")
    return Version(v["files"], v["pattern"])


def _through(entry: dict[str, Any]) -> Through | None:
    t = entry.get("through")
    return Through(t["table"], t["by"], _where(t)) if t else None


def _guard_file(entry: dict[str, Any] | None) -> GuardFile | None:
    """The guard's text lies beside the built-in profiles."""
    return GuardFile(entry["path"], _template(entry), entry["does"]) if entry is not None else None


def _template(entry: dict[str, Any]) -> str:
    """A text that lies beside the built-in profiles."""
    for template in resources.files("nostos.core.profiles").iterdir():
        if template.name == entry["template"] and template.name.endswith(".php"):
            return template.read_text(encoding="utf-8")
    raise ValueError(f"the template {entry['template']!r} is not one of Nostos's own")


def _path(entry: dict[str, Any]) -> list[str]:
    return str(entry["path"]).split(".") if "path" in entry else []
