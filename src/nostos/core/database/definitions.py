"""Definitions that come from elsewhere, read into their parts before they are carried out: each defines one thing, over
one table, and ends there.

What a database says of itself may be a lie: a file's schema can be written to by whoever runs code in it, and a host
that is asked may answer what it likes. So no text of a definition is run that was not read, token by token, as its own
engine reads it, and found to be what it should be and no more.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from nostos.core.database.sql_text import Token, TokenKind, balanced, meant, tokens, top_level
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.records import dataclass

_READS = ("select", "with", "values", "(")  # how what a view shows begins
_CLAUSES = ("include", "nulls", "with", "where", "comment", "tablespace")  # of an index, after its columns
_OBEYED = expression(r"/\*M?!\d*(.*)\*/", re.DOTALL)
_NONE = Token(TokenKind.BLANK, "")
_ENDS = {"begin": 1, "case": 1, "end": -1}


@dataclass(frozen=True)
class Definition:
    """What a statement makes. kind: "table", "index", "view", "trigger" or "virtual table". over: the table that an
    index or a trigger is on. rest: the tokens after these."""

    kind: str
    name: str
    over: str
    unique: bool
    rest: tuple[Token, ...]


def made(sql: str, engine: str, called: str = "") -> Definition:
    """Read a statement that makes something. engine: whose SQL it is. called: what it is to make, for people. Raises
    SiteError where it is not one such statement, or more than one."""
    words = _DefinitionReader(_read(sql, engine, called), called)
    words.take("create")
    unique = words.has("unique")
    words.has("constraint")
    kind = next((k for k in ("table", "index", "view", "trigger") if words.has(k)), "")
    if not kind and words.has("virtual"):
        words.take("table")
        kind = "virtual table"
    if not kind or (unique and kind != "index"):
        raise _refused(called, "it makes something else")
    words.pass_over("if", "not", "exists")
    name, over = words.name(), ""
    if kind == "index":
        words.take("on")
        words.has("only")
        over = words.name()
    elif kind == "trigger":
        while not words.has("on"):
            words.next()
        over = words.name()
    definition = Definition(kind, name, over, unique, tuple(words.left))
    _check_rest(definition, called)
    return definition


def whole(sql: str, engine: str, kind: str, name: str, over: Collection[str] = ()) -> str:
    """A statement that makes one thing, and nothing after it. kind, name: what it is to make. over: the names by which
    the table that an index is on may be called. Raises SiteError for any other."""
    statement = made(sql, engine, name)
    if (statement.kind, statement.name) != (kind, name) or (over and statement.over not in over):
        raise _refused(name, "it makes something else")
    return sql


def of_table(statements: Sequence[str], names: Collection[str]) -> set[str]:
    """The statements by which PostgreSQL makes one table: itself, its partitions, its sequences, and what is added to
    these. names: those by which the table may be called. Returns these with those of its partitions, which indexes may
    be over. Raises SiteError where one statement is another."""
    own_names, sequences = {*names}, set[str]()
    for sql in statements:
        called = next(iter(names), "")
        words = _DefinitionReader(_read(sql, "postgresql", called, comments=False), called)
        if _stands(";", words.left):
            raise _refused(called, "something follows it")
        if not _is_of_table(words, own_names, sequences):
            raise _refused(called, "it makes something else")
    return own_names


def _is_of_table(words: _DefinitionReader, own_names: set[str], sequences: set[str]) -> bool:
    """Whether a statement is about a table's own parts; what it makes is one of them from then on."""
    if words.has("create"):
        if words.has("sequence"):
            words.pass_over("if", "not", "exists")
            sequences.add(words.name())
            return True
        words.has("unlogged")
        words.take("table")
        name = words.name()
        if words.has("partition"):
            words.take("of")
            own_names.add(name)
            return words.name() in own_names
        return name in own_names and _has_columns(words.left)
    if words.has("alter"):
        if words.has("sequence"):
            return words.name() in sequences and words.has("owned")
        words.take("table")
        words.has("only")
        return words.name() in own_names and not any(t.text == "," for t in top_level(words.left)) and (
            words.has("alter") or (words.has("add") and words.has("constraint")))
    words.take("comment")
    words.take("on")
    return (words.has("table") and words.name() in own_names) or (words.has("column")
                                                                   and words.names()[-2] in own_names)


def part(sql: str, engine: str, name: str) -> str:
    """A part of a statement, such as a column's type, its default, or a constraint: it ends nothing, opens nothing that
    it does not close, and begins nothing else. name: of what it is, for people. Raises SiteError for any other."""
    statement = _read(sql, engine, name, comments=False)
    if _stands(",", list(top_level(statement))) or _stands(";", statement):
        raise _refused(name, "it goes on with something else")
    return sql


class _DefinitionReader:
    """The tokens that are left of a statement, taken from the front."""

    def __init__(self, left: Sequence[Token], called: str) -> None:
        self.left = list(left)
        self.called = called

    def next(self) -> Token:
        if not self.left:
            raise _refused(self.called, "it makes something else")
        return self.left.pop(0)

    def has(self, word: str) -> bool:
        """Whether a word comes next, which is taken then."""
        comes = bool(self.left) and self.left[0].text.lower() == word
        if comes:
            self.left.pop(0)
        return comes

    def take(self, word: str) -> None:
        if not self.has(word):
            raise _refused(self.called, "it makes something else")

    def pass_over(self, first: str, *more: str) -> None:
        """Words that may come next, all of them or none."""
        if self.has(first):
            for word in more:
                self.take(word)

    def name(self) -> str:
        """A name, the last part of it where it says its schema."""
        return self.names()[-1]

    def names(self) -> list[str]:
        """The parts of a name."""
        names = [self.next()]
        while self.left and self.left[0].text == ".":
            self.left.pop(0)
            names.append(self.next())
        if any(token.mark not in (TokenKind.NAME, TokenKind.TEXT) for token in names):
            raise _refused(self.called, "it makes something else")
        return ["", *(t.word if t.mark is TokenKind.NAME and t.text[:1] in '"`[' else t.text.strip("'") for t in names)]


def _read(sql: str, engine: str, name: str, *, comments: bool = True) -> list[Token]:
    try:
        every = tokens(sql, engine)
        if not comments and any(t.mark is TokenKind.COMMENT for t in every):
            raise _refused(name, "")
        every = [one for t in every for one in (_obeyed(t) if engine == "mysql" else (t,))]
    except SiteError:
        raise _refused(name, "it does not come to its end, or a comment stands in it") from None
    words = meant(every)
    if not balanced(words):
        raise _refused(name, "it does not come to its end")
    return words


def _obeyed(token: Token) -> Sequence[Token]:
    """A token; of a comment that servers of some age read as if what is in it stood there by itself, what is in it."""
    match = _OBEYED.fullmatch(token.text) if token.mark is TokenKind.COMMENT else None
    return (token,) if match is None else tokens(match.group(1), "mysql")


def _check_rest(definition: Definition, called: str) -> None:
    """Raise SiteError where what follows the head of a statement is not what belongs to it."""
    rest = list(definition.rest)
    while rest and rest[-1].text == ";" and definition.kind != "trigger":
        rest.pop()
    first = rest[0].text.lower() if rest else ""
    level = [t.text.lower() for t in top_level(rest)]
    good = bool(rest)
    if definition.kind == "trigger":
        good = _one_body([t.text.lower() if b.text != "." else "" for b, t in zip((_NONE, *rest), rest, strict=False)])
    elif _stands(";", rest):
        raise _refused(called, "something follows it")
    elif definition.kind == "table":
        good = _has_columns(rest)
    elif definition.kind == "index":
        after = level[2:] if level[:1] == ["using"] else level
        good = (first in ("(", "using")) and (not after or after[0] in _CLAUSES)
    elif definition.kind == "view":
        texts = [t.text.lower() for t in rest]
        body = texts[texts.index("as") + 1:][:1] if "as" in texts else []
        good = bool(body) and body[0] in _READS
    elif definition.kind == "virtual table":
        good = first == "using"
    if not good:
        raise _refused(called, "it makes something else")


def _has_columns(rest: Sequence[Token]) -> bool:
    """Whether a table's columns follow its name, and no query anywhere."""
    return bool(rest) and rest[0].text == "(" and not any(t.text.lower() == "select" for t in rest) and not any(
        t.text.lower() == "as" for t in top_level(rest))


def _stands(sign: str, tokens: Sequence[Token]) -> bool:
    return any(t.text == sign and t.mark is TokenKind.SIGN for t in tokens)


def _one_body(words: Sequence[str]) -> bool:
    """Whether a trigger's statements stand between its BEGIN and the END that is the last of it; or it only calls."""
    if words and words[-1] == ";":
        words = words[:-1]
    if "begin" not in words:
        return ";" not in words
    start = words.index("begin")
    depth = 0
    for at, word in enumerate(words):
        if word == ";" and at < start:
            return False
        depth += _ENDS.get(word, 0)
        if at > start and not depth and at < len(words) - 1:
            return False
    return not depth


def _refused(name: str, why: str) -> SiteError:
    return SiteError(f"The definition of {name or 'something'} is not carried out: {why}.",
                     left="Nothing of it was done.",
                     next_step="Look at it where it comes from: no database writes one like that by itself.")
