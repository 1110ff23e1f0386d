"""Settings that are a Python program, read as text: what they would come to, as far as that can be told without running
them.

Names are followed through assignments and through modules of the project that are taken in; constants, paths made of
`__file__`, look-ups in the environment, and what is put together of these, are known; whatever else is said is not, and
neither is what hangs on it.
"""

from __future__ import annotations

import ast
import os
import posixpath
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from pathlib import PurePosixPath
from typing import Any

from nostos.core.hosts.far_path import AnyPath, FarPath, on_machine
from nostos.core.sites.site_file import read_bounded

_DEEPEST = 12  # modules that take in one another
_UNREADABLE = (SyntaxError, ValueError, RecursionError, MemoryError)


class Unknown:
    """What an expression comes to only when it is run. said: the expression."""

    def __init__(self, reason: str = "") -> None:
        self.reason = " ".join(reason.split())[:80]


class SaidUrl(str):
    """A database that settings give as a URL."""


def tree_of(content: bytes) -> ast.Module | None:
    """A program, parsed; None where it cannot be."""
    try:
        return ast.parse(content)
    except _UNREADABLE:
        return None


class SettingsReader:
    """Reads modules of a project. root: its folder. environment: what its `.env` says."""

    def __init__(self, root: AnyPath, environment: Mapping[str, str]) -> None:
        self.root = root
        # Of another machine it is not known what a program there would find.
        self.environment = {**({} if isinstance(root, FarPath) else os.environ), **environment}
        self.read: list[str] = []  # the files that were read, relative to the root

    def file_of(self, module: str) -> str | None:
        """The file of a module, relative to the project's folder; None where it is none of the project's."""
        parts = module.split(".")
        if not all(p.isidentifier() for p in parts):
            return None
        for name in ("/".join(parts) + ".py", "/".join(parts) + "/__init__.py"):
            if (self.root / name).is_file():
                return name
        return None

    def names(self, module: str, depth: int = 0) -> dict[str, Any] | None:
        """What a module's names come to; None where it cannot be read."""
        file = self.file_of(module)
        tree = tree_of(read_bounded(self.root / file)) if file is not None and depth < _DEEPEST else None
        if file is None or tree is None:
            return None
        self.read.append(file)
        names: dict[str, Any] = {"__file__": on_machine(self.root / file)}
        package = module if file.endswith("/__init__.py") else module.rpartition(".")[0]
        with suppress(RecursionError):
            _Module(self, names, package, depth).run(tree.body)
            return names
        return None


class _Module:
    """A module that is being read. found: its names, so far."""

    def __init__(self, reader: SettingsReader, names: dict[str, Any], package: str, depth: int) -> None:
        self.reader, self.values_by_name, self.package, self.depth = reader, names, package, depth

    # --- statements

    def run(self, body: Iterable[ast.stmt]) -> None:
        for statement in body:
            self._statement(statement)

    def _statement(self, s: ast.stmt) -> None:
        match s:
            case ast.ImportFrom():
                self._take_in(s)
            case ast.Assign():
                value = self.value(s.value)
                for target in s.targets:
                    self._assign(target, value)
            case ast.AnnAssign(target=target, value=ast.expr() as test_value):
                self._assign(target, self.value(test_value))
            case ast.AugAssign(target=ast.Name() as target, op=op, value=more):
                self._assign(target, _added(self.value(target), op, self.value(more)))
            case ast.If(test=test, body=then, orelse=other):
                test_value = self.value(test)
                if isinstance(test_value, Unknown):
                    self._doubt([*then, *other])
                else:
                    self.run(then if test_value else other)
            case ast.Try(body=tried, orelse=other, finalbody=last):
                self.run([*tried, *other, *last])
            case ast.With() | ast.For() | ast.While() | ast.Match():
                self._doubt([s])
            case ast.Expr(value=ast.Call(func=ast.Attribute(value=about, attr=word), args=args)):
                self._told(about, word, args)
            case _:
                pass

    def _take_in(self, s: ast.ImportFrom) -> None:
        parts = self.package.split(".") if s.level else []
        above = parts[:len(parts) - s.level + 1] if s.level else []
        module = ".".join([*above, *([s.module] if s.module else [])])
        names = self.reader.names(module, self.depth + 1) if module and self.reader.file_of(module) else None
        for alias in s.names:
            if alias.name != "*":
                name = alias.asname or alias.name
                self.values_by_name[name] = Unknown(name) if names is None else names.get(alias.name, Unknown(name))
            elif names is not None:
                self.values_by_name.update({n: v for n, v in names.items() if not n.startswith("_")})

    def _assign(self, target: ast.expr, value: Any) -> None:
        match target:
            case ast.Name(id=name):
                self.values_by_name[name] = value
            case ast.Tuple(elts=parts) | ast.List(elts=parts):
                known = isinstance(value, tuple | list) and len(value) == len(parts)
                for number, part in enumerate(parts):
                    self._assign(part, value[number] if known else Unknown(ast.unparse(target)))
            case ast.Subscript(value=about, slice=at):
                held, key = self.value(about), self.value(at)
                if isinstance(held, dict) and isinstance(key, str):
                    held[key] = value
                else:
                    self._lose(about)

    def _told(self, about: ast.expr, word: str, args: list[ast.expr]) -> None:
        """A method that changes what it is called on."""
        held = self.value(about)
        if isinstance(held, dict) and word == "update" and len(args) == 1 and isinstance(
                more := self.value(args[0]), dict):
            held.update(more)
        elif isinstance(held, list) and word == "append" and len(args) == 1:
            held.append(self.value(args[0]))
        elif isinstance(held, dict | list) and word not in ("get", "keys", "values", "items", "copy", "index", "count"):
            self._lose(about)

    def _lose(self, about: ast.expr) -> None:
        """What a name held is not known any more."""
        while isinstance(about, ast.Subscript | ast.Attribute | ast.Call):
            about = about.func if isinstance(about, ast.Call) else about.value
        if isinstance(about, ast.Name):
            self.values_by_name[about.id] = Unknown(about.id)

    def _doubt(self, body: Iterable[ast.stmt]) -> None:
        """Whatever some statements assign may be that, or not."""
        for s in body:
            for node in ast.walk(s):
                if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
                    self.values_by_name[node.id] = Unknown(node.id)
                elif isinstance(node, ast.Subscript) and isinstance(node.ctx, ast.Store):
                    self._lose(node)
                elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and isinstance(
                        self.value(node.func.value), dict | list):
                    self._lose(node.func)
                elif isinstance(node, ast.ImportFrom) and any(a.name == "*" for a in node.names):
                    self.values_by_name.update({n: Unknown(n) for n in self.values_by_name if n.isupper()})

    # --- expressions

    def value(self, e: ast.expr) -> Any:
        value = self._value(e)
        return Unknown(ast.unparse(e)) if isinstance(value, Unknown) and not value.reason else value

    def _value(self, e: ast.expr) -> Any:
        match e:
            case ast.Constant(value=value):
                return value
            case ast.Name(id=name):
                return self.values_by_name.get(name, Unknown(name))
            case ast.Dict(keys=keys, values=values):
                return self._dict(keys, values)
            case ast.List(elts=parts) | ast.Tuple(elts=parts) | ast.Set(elts=parts):
                return Unknown() if any(isinstance(p, ast.Starred) for p in parts) else [self.value(p) for p in parts]
            case ast.JoinedStr(values=parts):
                texts = [self.value(p.value) if isinstance(p, ast.FormattedValue) and p.conversion == -1
                        and p.format_spec is None else self.value(p) for p in parts]
                plain = all(isinstance(p, str | int | PurePosixPath) for p in texts)
                return "".join(map(str, texts)) if plain else Unknown()
            case ast.BinOp(left=left, op=op, right=right):
                return _added(self.value(left), op, self.value(right))
            case ast.BoolOp(op=op, values=values):
                return self._either(values, isinstance(op, ast.Or))
            case ast.UnaryOp(op=ast.Not(), operand=operand):
                texts = self.value(operand)
                return Unknown() if isinstance(texts, Unknown) else not texts
            case ast.IfExp(test=test, body=then, orelse=other):
                texts = self.value(test)
                return Unknown() if isinstance(texts, Unknown) else self.value(then if texts else other)
            case ast.Compare(left=left, ops=[op], comparators=[right]):
                return _compared(self.value(left), op, self.value(right))
            case ast.Subscript(value=about, slice=at):
                return self._item(about, at)
            case ast.Attribute(value=about, attr="parent"):
                held = self.value(about)
                return held.parent if isinstance(held, PurePosixPath) else Unknown()
            case ast.Call():
                return self._call(e)
        return Unknown()

    def _dict(self, keys: list[ast.expr | None], values: list[ast.expr]) -> Any:
        pairs: dict[Any, Any] = {}
        for key, said in zip(keys, values, strict=True):
            value = self.value(said)
            if key is None:
                if not isinstance(value, dict):
                    return Unknown()
                pairs.update(value)
                continue
            name = self.value(key)
            if not isinstance(name, str | int):
                return Unknown()
            pairs[name] = value
        return pairs

    def _either(self, values: list[ast.expr], one: bool) -> Any:
        value: Any = Unknown()
        for e in values:
            value = self.value(e)
            if isinstance(value, Unknown) or bool(value) is one:
                break
        return value

    def _item(self, about: ast.expr, at: ast.expr) -> Any:
        key = self.value(at)
        if ast.unparse(about) in ("os.environ", "environ") and isinstance(key, str):
            return self.reader.environment.get(key, Unknown())
        if isinstance(about, ast.Attribute) and about.attr == "parents" and isinstance(key, int):
            held = self.value(about.value)
            return held.parents[key] if isinstance(held, PurePosixPath) and 0 <= key < len(held.parents) else Unknown()
        held = self.value(about)
        if isinstance(held, dict) and isinstance(key, str | int):
            return held.get(key, Unknown())
        return held[key] if isinstance(held, list) and isinstance(key, int) and -len(held) <= key < len(held) else (
            Unknown())

    def _call(self, e: ast.Call) -> Any:
        name = ast.unparse(e.func)
        args = [self.value(a) for a in e.args]
        named = {k.arg: self.value(k.value) for k in e.keywords if k.arg}
        last = name.rpartition(".")[2]
        if name in ("os.environ.get", "environ.get", "os.getenv", "getenv", "env", "env.str", "config", "env.path"):
            return self._variable(args, named)
        if name in ("dj_database_url.config", "env.db", "env.db_url", "env.dj_db_url"):
            first = args[:1] or [named.get("env", "DATABASE_URL")]
            url = self._variable([*(first if name.startswith("env") else [named.get("env", "DATABASE_URL")]),
                                  *args[1:]], named)
            return {"url": SaidUrl(url)} if isinstance(url, str) else Unknown()
        if name == "dj_database_url.parse":
            return {"url": SaidUrl(args[0])} if args and isinstance(args[0], str) else Unknown()
        if last in ("Path", "PurePath", "str", "fspath") and len(args) == 1 and isinstance(
                args[0], str | PurePosixPath):
            return str(args[0]) if last in ("str", "fspath") else PurePosixPath(args[0])
        if name.startswith(("os.path.", "path.")) and last in _PATHS and args and all(
                isinstance(a, str | PurePosixPath) for a in args):
            return _PATHS[last](*map(str, args))
        if isinstance(e.func, ast.Attribute):
            return _method(self.value(e.func.value), last, args)
        return Unknown()

    def _variable(self, args: list[Any], named: dict[str, Any]) -> Any:
        """A look-up in the environment."""
        if not args or not isinstance(args[0], str):
            return Unknown()
        if args[0] in self.reader.environment:
            return self.reader.environment[args[0]]
        return args[1] if len(args) > 1 else named.get("default", Unknown())


_PATHS: dict[str, Callable[..., str]] = {
    "join": posixpath.join, "dirname": posixpath.dirname, "basename": posixpath.basename,
    "abspath": posixpath.normpath, "realpath": posixpath.normpath, "normpath": posixpath.normpath}


def _method(held: Any, word: str, args: list[Any]) -> Any:
    if isinstance(held, PurePosixPath):
        if word in ("resolve", "absolute", "expanduser"):
            return held
        if word == "as_posix":
            return str(held)
        if word == "joinpath" and all(isinstance(a, str | PurePosixPath) for a in args):
            return held.joinpath(*args)
    if isinstance(held, dict) and word == "get" and args and isinstance(args[0], str):
        return held.get(args[0], args[1] if len(args) > 1 else None)
    if isinstance(held, str) and word in ("rstrip", "lstrip", "strip", "lower", "upper") and all(
            isinstance(a, str) for a in args) and len(args) < 2:
        return getattr(held, word)(*args)
    return Unknown()


def _added(one: Any, op: ast.operator, other: Any) -> Any:
    if isinstance(op, ast.Div) and isinstance(one, PurePosixPath) and isinstance(other, str | PurePosixPath):
        return one / other
    if isinstance(op, ast.Add) and type(one) is type(other) and isinstance(one, str | list | int):
        return one + other
    if isinstance(op, ast.BitOr) and isinstance(one, dict) and isinstance(other, dict):
        return one | other
    return Unknown()


def _compared(one: Any, op: ast.cmpop, other: Any) -> Any:
    if isinstance(one, Unknown) or isinstance(other, Unknown):
        return Unknown()
    if isinstance(op, ast.Eq | ast.NotEq | ast.Is | ast.IsNot):
        return (one == other) is isinstance(op, ast.Eq | ast.Is)
    if isinstance(op, ast.In | ast.NotIn) and isinstance(other, list | dict | str) and isinstance(one, str):
        return (one in other) is isinstance(op, ast.In)
    return Unknown()
