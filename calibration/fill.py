"""Fills the tables that `describe.py` told of, into a file of SQLite without declared keys, and keeps what is true.

Rows are made up; types, names, defaults, choices and indexes are the system's own. How many rows there are, how their
numbers have gaps, which rows are referred to (all alike, the newest, the first few) and what plain numbers hold (ranks,
counts, sizes, years, flags) is drawn anew for each table and column.
"""

from __future__ import annotations

import random
import sqlite3
import zlib
from pathlib import Path
from typing import Any

WORDS = ("amber", "basin", "cedar", "delta", "ember", "fjord", "grove", "haven", "islet", "jetty", "knoll", "lagoon",
         "meadow", "north", "orchid", "pine", "quarry")
INTS = ("int", "serial")


def is_int(column: dict[str, Any]) -> bool:
    return any(w in column["declared"].lower() for w in INTS) and "interval" not in column["declared"].lower()


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


class Filler:
    def __init__(self, told: dict[str, Any], path: Path, seed: int = 0) -> None:
        self.random = random.Random(zlib.crc32(told["system"].encode()) + seed)
        self.tables: dict[str, Any] = told["tables"]
        self.keys: dict[str, list[Any]] = {}
        self.db = sqlite3.connect(path)
        self.truth: dict[tuple[str, str], tuple[str, ...]] = {}
        self.generic: dict[tuple[str, str], str] = {}
        self.plain: set[tuple[str, str]] = set()

    def fill(self) -> None:
        for name, table in self.tables.items():
            self.db.execute(self.ddl(name, table))
            for n, column in enumerate(c for c in table["columns"] if c["index"] and not c["primary"]):
                self.db.execute(f"CREATE INDEX {quoted(f'ix_{name}_{n}')} ON {quoted(name)} ({quoted(column['name'])})")
        for name in self.tables:
            self.some_keys(name)
        for name, table in self.tables.items():
            self.rows(name, table)
        self.db.commit()
        self.db.close()

    def ddl(self, name: str, table: dict[str, Any]) -> str:
        parts = []
        keys = [c["name"] for c in table["columns"] if c["primary"] or c.get("key")]
        for c in table["columns"]:
            default = c["default"]
            said = f" DEFAULT {int(default) if isinstance(default, bool) else default}" if isinstance(
                default, int | float) else ""
            alone = len(keys) == 1 and c["name"] in keys
            declared = "integer PRIMARY KEY AUTOINCREMENT" if alone and is_int(c) else c["declared"] + (
                " PRIMARY KEY" if alone else "")
            parts.append(f"{quoted(c['name'])} {declared}{'' if c['null'] or alone else ' NOT NULL'}{said}"
                         + (" UNIQUE" if c["unique"] and not alone else ""))
        if len(keys) > 1:
            parts.append(f"PRIMARY KEY ({', '.join(map(quoted, keys))})")
        parts += [f"UNIQUE ({', '.join(map(quoted, u))})" for u in table["uniques"] if u]
        return f"CREATE TABLE {quoted(name)} ({', '.join(parts)})"

    def some_keys(self, name: str) -> list[Any]:
        """The keys of a table's rows; of those whose rows continue others', some of theirs."""
        if name in self.keys:
            return self.keys[name]
        key = [c for c in self.tables[name]["columns"] if c["primary"]]
        if len(key) == 1 and key[0]["to"] in self.tables and key[0]["to"] != name:
            base = self.some_keys(key[0]["to"])
            self.keys[name] = sorted(self.random.sample(base, max(1, len(base) // self.random.choice((1, 2, 3)))))
        else:
            self.keys[name] = self.fresh_keys(key)
        return self.keys[name]

    def fresh_keys(self, key: list[Any]) -> list[Any]:
        count = self.random.choice((3, 8, 15, 40, 40, 120, 300, 900))
        if len(key) != 1 or not is_int(key[0]):
            return list(range(count))
        gaps, at, found = self.random.choice((0, 0, 0.1, 0.3, 0.6)), self.random.choice((0, 0, 0, 0, 40, 1000)), []
        while len(found) < count:
            at += 1
            if self.random.random() >= gaps:
                found.append(at)
        return found

    def rows(self, name: str, table: dict[str, Any]) -> None:
        makers = {c["name"]: self.maker(name, c, table) for c in table["columns"]}
        made = []
        columns = {c["name"] for c in table["columns"]}
        pairs = [(oid, ct) for oid, ct in table["generic"] if {oid, ct} <= columns]
        kinds = {pair: self.random.sample(sorted(self.ints()), min(len(self.ints()), self.random.choice((1, 2, 4))))
                 for pair in pairs}
        types = {t: n for n, t in enumerate(sorted(self.ints()), 1)}
        for n, key in enumerate(self.keys[name]):
            row = {c: make(n, key) for c, make in makers.items()}
            for (oid, ct), goals in kinds.items():
                goal = self.random.choice(goals)
                row[ct], row[oid] = types[goal], self.random.choice(self.keys[goal])
            made.append(row)
        for pair in kinds:
            self.generic[name, pair[0]] = pair[1]
            self.truth.pop((name, pair[0]), None)
            self.plain.discard((name, pair[0]))
        for row in made:
            marks = ", ".join("?" * len(row))
            self.db.execute(f"INSERT OR IGNORE INTO {quoted(name)} ({', '.join(map(quoted, row))}) VALUES ({marks})",
                            list(row.values()))

    def ints(self) -> list[str]:
        return [t for t, c in self.tables.items() for k in c["columns"] if k["primary"] and is_int(k) and not k["to"]]

    def maker(self, name: str, c: dict[str, Any], table: dict[str, Any]):  # type: ignore[no-untyped-def]
        r = self.random
        if c["primary"] and not c["to"]:
            if is_int(c):
                return lambda n, key: key
            return lambda n, key: f"{r.choice(WORDS)}-{key}"
        if c["to"] in self.tables:
            goal = self.tables[c["to"]]
            target = next((k for k in goal["columns"] if k["name"] == c["to_column"]), None)
            if target is not None and is_int(target):
                return self.reference(name, c)
        if not is_int(c):
            if "bool" in c["declared"].lower():
                self.plain.add((name, c["name"]))
            return self.text(c)
        self.plain.add((name, c["name"]))
        return self.plain_number(c)

    def reference(self, name: str, c: dict[str, Any]):  # type: ignore[no-untyped-def]
        r, goal = self.random, c["to"]
        self.truth[name, c["name"]] = self.chain(goal)
        keys = self.keys[goal]
        if c["primary"]:
            return lambda n, key: key
        some = r.choice((keys, keys, keys[-max(1, len(keys) // 4):], keys[:3], r.sample(keys, max(1, len(keys) // 3))))
        empty = r.choice((0, 0, 0.2, 0.7, 0.95, 1)) if c["null"] else 0
        turn = iter(r.sample(keys, len(keys))) if c["unique"] else None

        def make(n: int, key: Any) -> Any:
            if turn is not None:
                return next(turn, None)
            return None if r.random() < empty else r.choice(some)
        return make

    def chain(self, table: str) -> tuple[str, ...]:
        """A table, and those that its rows continue, one by one."""
        found = [table]
        while True:
            key = next((c for c in self.tables[found[-1]]["columns"] if c["primary"]), None)
            if key is None or key["to"] not in self.tables or key["to"] in found:
                return tuple(found)
            found.append(key["to"])

    def plain_number(self, c: dict[str, Any]):  # type: ignore[no-untyped-def]
        r, default = self.random, c["default"]
        if c["choices"]:
            return lambda n, key: r.choice(c["choices"])
        if "bool" in c["declared"].lower() or "tinyint(1)" in c["declared"].lower():
            return lambda n, key: r.randint(0, 1)
        span = r.choice((2, 5, 10, 60, 100, 600, 3000, 100_000))
        way = r.choice(("default", "rank", "count", "any", "any", "round", "size", "year"))
        if c["unique"]:
            return lambda n, key: n + 1
        return {"default": lambda n, key: default if isinstance(default, int) and r.random() < 0.9 else r.randint(0, 3),
                "rank": lambda n, key: n % span, "count": lambda n, key: int(r.expovariate(1 / (span / 6 + 1))),
                "any": lambda n, key: r.randint(0, span), "year": lambda n, key: r.randint(1990, 2026),
                "round": lambda n, key: r.choice((1, 2, 5, 10, 20, 50, 100, 200, 500)),
                "size": lambda n, key: int(2 ** r.uniform(0, 17))}[way]

    def text(self, c: dict[str, Any]):  # type: ignore[no-untyped-def]
        r, kind, declared = self.random, c["kind"].lower(), c["declared"].lower()
        if c["choices"]:
            return lambda n, key: r.choice(c["choices"])
        if "bool" in declared:
            return lambda n, key: r.randint(0, 1)
        if "date" in declared or "time" in declared:
            return lambda n, key: f"2026-0{r.randint(1, 9)}-{r.randint(10, 28)} 10:{r.randint(10, 59)}:00"
        if any(w in declared for w in ("decimal", "numeric", "float", "real", "double")):
            return lambda n, key: round(r.uniform(0, 90), 2)
        if "email" in kind or "email" in c["name"]:
            return lambda n, key: f"{r.choice(WORDS)}{n}@visitor.example"
        if "ip" in kind.split("generic")[-1][:2] or c["name"].startswith("ip"):
            return lambda n, key: f"192.0.2.{r.randint(1, 250)}"
        size = c["length"] if isinstance(c["length"], int) else 60
        if c["unique"]:
            return lambda n, key: f"{r.choice(WORDS)}-{key}"[:size]
        return lambda n, key: f"{r.choice(WORDS)} {r.choice(WORDS)}"[:size]
