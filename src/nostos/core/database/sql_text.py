"""SQL as tokens, read as each engine itself reads it: what is quoted, where a statement ends, what is called in it.

Lexical rules: SQLite's "SQL Language: keywords, literals", MariaDB's "Lexical structure" (without ANSI_QUOTES and
NO_BACKSLASH_ESCAPES, which our own sessions never have), PostgreSQL's manual, section 4.1.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from enum import StrEnum

from nostos.core.errors import SiteError
from nostos.core.records import dataclass


class TokenKind(StrEnum):
    """What a token is."""

    NAME = "name"  # a word, or a name in its quotes
    TEXT = "text"  # a literal in quotes
    NUMBER = "number"
    SIGN = "sign"  # one character
    BLANK = "blank"
    COMMENT = "comment"


@dataclass(frozen=True)
class Token:
    """mark: what it is. text: as it stands there."""

    mark: TokenKind
    text: str

    @property
    def word(self) -> str:
        """A name without its quotes, in small letters where it has none."""
        first = self.text[:1]
        if self.mark is not TokenKind.NAME or first not in '"`[':
            return self.text.lower()
        last = "]" if first == "[" else first
        return self.text[1:-1].replace(last * 2, last)


_BLANK = r"(?P<blank>\s+)"
_NUMBER = r"(?P<number>0[xX][0-9a-fA-F]+|(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?)"
_WORD = r"(?P<name>[^\W\d][\w$]*)"
_PLAIN, _ESCAPED = r"'(?:[^']|'')*+'", r"'(?:[^'\\]|''|\\.)*+'"
_DOUBLE, _BACK = (rf"{q}(?:[^{q}]|{q}{q})*+{q}" for q in '"`')
_SLASHED = r"/\*(?:[^*]|\*(?!/))*+\*/"

# Each engine's tokens, in the order in which they are looked for.
_ENGINES = {
    "sqlite": "|".join((_BLANK, rf"(?P<comment>--[^\n]*+|{_SLASHED})", rf"(?P<text>[xX]?{_PLAIN})", _NUMBER, _WORD,
                        rf"(?P<quoted>{_DOUBLE}|{_BACK}|\[[^\]]*+\])", r"(?P<sign>.)")),
    "mysql": "|".join((_BLANK, rf"(?P<comment>--(?=\s|$)[^\n]*+|#[^\n]*+|{_SLASHED})",
                       rf"(?P<text>(?:[xXbBnN]|_\w+\s*+)?{_ESCAPED}|\"(?:[^\"\\]|\"\"|\\.)*+\")", _NUMBER,
                       r"(?P<name>[\w$]+)", rf"(?P<quoted>{_BACK})", r"(?P<sign>.)")),
    "postgresql": "|".join((_BLANK, r"(?P<comment>--[^\n]*+)",
                            rf"(?P<text>[eE]{_ESCAPED}|(?:[xXbBnN]|[uU]&)?{_PLAIN}|"
                            r"\$(?P<tag>(?:[^\W\d]\w*)?)\$.*?\$(?P=tag)\$)", _NUMBER, _WORD,
                            rf"(?P<quoted>(?:[uU]&)?{_DOUBLE})", r"(?P<sign>.)")),
}
_READERS = {engine: re.compile(pattern, re.DOTALL) for engine, pattern in _ENGINES.items()}
_ENDLESS = ("'", '"', "`")  # a quote that nothing closes
_OPENING, _CLOSING = "([{", ")]}"
# What stands after these and before a bracket is a table, a type or a way of keeping an index.
_NO_CALL_AFTER = frozenset((
    "references", "on", "into", "table", "exists", "only", "constraint", "key", "index", "using", "collate", ":", "as"))


def tokens(sql: str, engine: str) -> list[Token]:
    """The tokens of a text, all of it. engine: "sqlite", "mysql" or "postgresql". Raises SiteError where a quote is
    never closed, or a comment; and for control characters outside of quotes."""
    tokens: list[Token] = []
    reader = _READERS[engine]
    at = 0
    while at < len(sql):
        match = reader.match(sql, at)
        assert match is not None  # any character is a sign, at least
        kind = "text" if match.lastgroup == "tag" else str(match.lastgroup)
        text = match.group()
        if engine == "postgresql" and sql.startswith("/*", at):
            text, kind = _nested(sql, at), "comment"
        if kind == "sign" and (text in _ENDLESS or text < " " or text == "\x7f" or (
                engine != "postgresql" and sql.startswith("/*", at))):
            raise SiteError("A definition is not read: something in it never ends.", left="Nothing of it was done.")
        tokens.append(Token(TokenKind.NAME if kind == "quoted" else TokenKind(kind), text))
        at += len(text)
    return tokens


def _nested(sql: str, at: int) -> str:
    """A comment that may hold comments."""
    depth, end = 0, at
    for mark in re.compile(r"/\*|\*/").finditer(sql, at):
        depth += 1 if mark.group() == "/*" else -1
        if not depth:
            end = mark.end()
            break
    if not end - at:
        raise SiteError("A definition is not read: a comment in it never ends.", left="Nothing of it was done.")
    return sql[at:end]


def meant(tokens: Sequence[Token]) -> list[Token]:
    """Tokens without blanks and comments."""
    return [t for t in tokens if t.mark not in (TokenKind.BLANK, TokenKind.COMMENT)]


def balanced(tokens: Sequence[Token]) -> bool:
    """Whether every bracket is closed by its own kind, in order."""
    due: list[str] = []
    for token in tokens:
        if token.mark is TokenKind.SIGN and token.text in _OPENING:
            due.append(_CLOSING[_OPENING.index(token.text)])
        elif token.mark is TokenKind.SIGN and token.text in _CLOSING and (not due or due.pop() != token.text):
            return False
    return not due


def top_level(tokens: Sequence[Token]) -> Iterator[Token]:
    """The tokens that stand in no bracket, without brackets."""
    depth = 0
    for token in tokens:
        opens = token.mark is TokenKind.SIGN and token.text in _OPENING
        depth -= token.mark is TokenKind.SIGN and token.text in _CLOSING
        if not depth and not opens and token.text not in _CLOSING:
            yield token
        depth += opens


def calls(sql: str, engine: str) -> frozenset[str]:
    """The names that stand before a bracket, as functions do; words of the language and types, too, which are no
    function's names. Those of tables before the list of their columns are not among them."""
    words = meant(tokens(sql, engine))
    called = set()
    for at, token in enumerate(words[:-1]):
        if token.mark is not TokenKind.NAME or words[at + 1].text != "(":
            continue
        start = at  # of a name in its schema
        while start >= 2 and words[start - 1].text == "." and words[start - 2].mark is TokenKind.NAME:
            start -= 2
        before = words[start - 1].word if start else ""
        if before not in _NO_CALL_AFTER:
            called.add(token.word)
    return frozenset(called)
