"""Tells what a schema in SQL declares of its tables, in the form of `describe.py`.

    python describe_sql.py NAME SCHEMA.sql TARGET.json [LABELS.toml]

LABELS: for a system that declares no keys, what its documentation says that columns point at, `table.column = "table"`.
Columns of whole numbers that it does not list are plain.
"""

import json
import re
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

TABLE = re.compile(r"(?i)CREATE TABLE\s+(?:IF NOT EXISTS\s+)?[`\"]?(\w+)[`\"]?\s*\(")
COLUMN = re.compile(r"(?is)^[`\"]?(\w+)[`\"]?\s+((?:[a-z]*int|[a-z]*char|[a-z]*text|[a-z]*blob|serial|integer|"
                    r"bool|boolean|date|datetime|"
                    r"timestamp|time|float|double|decimal|numeric|real|varbinary|binary|enum|set|bigint|json)(?:\s*\([^)]*\))?(?:\s+unsigned)?)(.*)$")
KEY = re.compile(r"(?is)^(?:CONSTRAINT\s+\S+\s+)?FOREIGN KEY\s*\S*\s*\(([^)]*)\)\s*REFERENCES\s+[`\"]?(\w+)[`\"]?\s*"
                 r"\(([^)]*)\)")


def bodies(sql: str) -> Iterator[tuple[str, str]]:
    """The tables of a schema: their names, and what is between their brackets."""
    for start in TABLE.finditer(sql):
        deep, at = 1, start.end()
        while deep and at < len(sql):
            deep += (sql[at] == "(") - (sql[at] == ")")
            at += 1
        yield start.group(1), sql[start.end():at - 1]


def parts(body: str) -> list[str]:
    """The parts of a table's definition, parted by commas outside brackets."""
    found, deep, now = [], 0, ""
    for letter in body:
        deep += (letter == "(") - (letter == ")")
        if letter == "," and not deep:
            found.append(now.strip())
            now = ""
        else:
            now += letter
    return [*found, now.strip()]


def names(text: str) -> list[str]:
    return [n.strip("`\" ").split("(")[0] for n in text.split(",")]


def described(sql: str, labels: dict[str, str]) -> dict[str, object]:
    sql = re.sub(r"(?m)--.*$|^#.*$|/\*.*?\*/", "", sql)
    later = re.findall(r"(?is)CREATE\s+(?:UNIQUE\s+)?INDEX\s+\w+\s+ON\s+[`\"]?(\w+)[`\"]?\s*\(([^;]*)\)", sql)
    tables: dict[str, object] = {}
    for name, body in bodies(sql):
        columns, uniques, primary, indexed, keys = [], [], [], set(), {}
        indexed |= {names(cols)[0].split()[0] for t, cols in later if t == name}
        for part in parts(body):
            upper = part.upper()
            key = KEY.match(part)
            inside = re.search(r"\((.*)\)", part, re.DOTALL)
            if key:
                if len(names(key.group(1))) == 1:
                    keys[names(key.group(1))[0]] = (key.group(2), names(key.group(3))[0])
            elif upper.startswith("PRIMARY KEY") and inside:
                primary = names(inside.group(1))
            elif upper.startswith(("KEY", "INDEX", "FULLTEXT")) and inside:
                indexed.add(names(inside.group(1))[0])
            elif upper.startswith(("UNIQUE", "CONSTRAINT")) and inside:
                uniques.append(names(inside.group(1)))
            elif (c := COLUMN.match(part)) is not None:
                default = re.search(r"(?i)DEFAULT\s+'?(-?\d+)'?", c.group(3))
                refers = re.search(r"(?i)REFERENCES\s+[`\"]?(\w+)[`\"]?\s*\(([^)]*)\)", c.group(3))
                if "PRIMARY KEY" in c.group(3).upper():
                    primary = [c.group(1)]
                if refers:
                    keys[c.group(1)] = (refers.group(1), names(refers.group(2))[0])
                declared = re.sub(r"\([^)]*\)(?=.*unsigned)", "", c.group(2).lower())
                columns.append({"name": c.group(1), "declared": declared, "kind": c.group(2), "blank": False,
                                "null": "NOT NULL" not in upper, "default": int(default.group(1)) if default else None,
                                "choices": [], "unique": False, "length": None})
        for column in columns:
            label = labels.get(f"{name}.{column['name']}")
            goal = (label, "") if label else keys.get(column["name"], (None, None))
            column.update(primary=primary == [column["name"]], key=column["name"] in primary, to=goal[0],
                          to_column=goal[1], index=column["name"] in indexed or primary[:1] == [column["name"]])
        tables[name] = {"columns": columns, "generic": [], "uniques": uniques}
    for table in tables.values():
        for column in table["columns"]:  # a label names the table alone: its key is meant
            if column["to"] in tables and not column["to_column"]:
                column["to_column"] = next((c["name"] for c in tables[column["to"]]["columns"] if c["primary"]), None)
    return tables


def main() -> None:
    name, source, target = sys.argv[1:4]
    labels = {}
    if len(sys.argv) > 4:
        for table, columns in tomllib.loads(Path(sys.argv[4]).read_text()).items():
            labels.update({f"{table}.{c}": goal for c, goal in columns.items()})
    tables = described(Path(source).read_text(errors="replace"), labels)
    Path(target).write_text(json.dumps({"system": name, "tables": tables}, indent=1))
    print(name, len(tables), "tables,", sum(bool(c["to"]) for t in tables.values() for c in t["columns"]), "references")


if __name__ == "__main__":
    main()
