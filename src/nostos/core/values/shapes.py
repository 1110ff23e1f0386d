"""Where numbers stand in a text, each with the *shape* around it that says what it is: the text without its digits.

A place is not only a column. It is an attribute of a tag, of a shortcode or of a comment that holds an object
(`<embed embedtype="image" id="7">`, `[gallery ids="7,9"]`, `<!-- block {"id":7} -->`), an argument (`?p=7`), a
name that ends in a number (`class="picture-7"`), an address (`/tour/7`, `gid://app/Tour/7`), a word with its number
(`tour:7`, `tour#7`), an element (`<tour>7</tour>`) or a scalar of YAML. A number of prose stands in no place.

As a step of a path, an attribute is `@name`, then `@` and what says its kind; any other shape is `~`, the text before
the number, `#`, and what follows. The key of a map is the shape in braces.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import TYPE_CHECKING

from nostos.core.expressions import expression
from nostos.core.records import dataclass

if TYPE_CHECKING:
    import yaml

HEAD = "@^"  # the number that a text begins with
_LONGEST = 200_000  # letters of a text that are looked at
_YAML_LONGEST = 50_000
_NUMBER = expression(r"[1-9][0-9]{0,18}")
_LIST = expression(r"\s*[1-9]\d*(?:(?:\s*[,;|]\s*|\s+)[1-9]\d*)+\s*")
_EDGED_LIST = expression(r"([,;|])[1-9]\d*(?:\1[1-9]\d*)*\1")
# What follows an attribute's name: a number, or a list of them.
VALUE = r"[\"']?\s*[=:]\s*[\"'\[]?([1-9]\d*(?:\s*,\s*[1-9]\d*)*)(?![\w.%-])"
_VALUE = expression(VALUE)
_PART = expression(r"(?P<comment><!--\s*(?P<block>[a-z][\w:./-]*)\s+\{[^<>]*\}\s*/?-->)|(?P<tag><[A-Za-z][^<>]*>)"
                   r"|(?P<short>\[(?P<name>[A-Za-z][\w-]*)\s[^\[\]]*\])")
# A name is as long as one may be: where it may begin anywhere, what follows is not to be read to its end each time.
_ATTRIBUTE = expression(rf"(?<![A-Za-z_])([A-Za-z_][\w-]{{0,79}}+)(?:\[\w{{0,79}}\]|%5B\w{{0,79}}%5D){{0,9}}{VALUE}")
_SAYS_KIND = expression(r"""(?i)(?<![\w:-])((?:[a-z]+[-_]?)?(?:type|kind))\s*=\s*["']([a-z][\w.-]{0,39})["']""")
_SAYS_KIND_INSIDE = expression(r'"(?:kind|type)"\s*:\s*"([a-z][\w-]{0,39})"')
_CLASSES = expression(r"""(?i)\s(?:class|rel|id)\s*=\s*["']([^"']*)["']""")
_NUMBERED = expression(r"(?<![\w-])([A-Za-z][A-Za-z0-9_]*(?:-[A-Za-z][A-Za-z0-9_]*)*)-([1-9]\d*)(?![\w-])")
_HEAD = expression(r"([1-9]\d*)-[A-Za-z_]")
# A number of its own: no part of a decimal, a date, a hash or a measure with its unit.
_ALONE = expression(r"(?<![\d.,])(?<!\d[-:])[1-9]\d{0,18}(?![\d%A-Za-z]|[.,:]\d|-\d)")
# What is in front of it, as far as it says anything: up to two words, each with what parts it from the next.
_BEFORE = expression(r"[/#!?&]?(?:[A-Za-z]+(?:://|%2F|%3A|[:/#=_.@~|!+\-\[])+)*[A-Za-z]*$")
_WORD = expression(r"[/#!?&]?[A-Za-z]+(?:://|%2F|%3A|[:/#=_.@~|!+\-\[])*")
_WHOLE_WORD = expression(r"(?<![A-Za-z])(?:[A-Z]?[a-z]{3,}|[A-Z]{3,})$")  # before digits that follow at once
_MAY_BE_NONE = expression(r"[0-9A-Fa-f][-:.][0-9A-Fa-f]")  # stands in all of these; most texts have none
# What is written in digits and is no number: moments (https://www.rfc-editor.org/rfc/rfc3339), hours, UUIDs, addresses.
_NO_NUMBERS = expression(
    r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?"
    r"|(?<!\d)\d{1,2}:\d\d(?::\d\d)?(?!\d)"
    r"|(?i:[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12})|(?<![\d.])\d{1,3}(?:\.\d{1,3}){3}(?![\d.])")
_ELEMENT = expression(r"<([A-Za-z][\w:.-]*)(?:\s[^<>]*)?>\s*$")
# Attributes of HTML and SVG that hold numbers (https://html.spec.whatwg.org/multipage/indices.html#attributes-3), and
# properties of CSS that hold bare ones (https://www.w3.org/TR/CSS/#properties).
_STANDARD = frozenset((
    "start", "min", "max", "step", "low", "high", "optimum", "size", "width", "height", "colspan", "rowspan",
    "tabindex", "maxlength", "minlength", "cols", "rows", "border", "cellpadding", "cellspacing", "hspace",
    "vspace", "frameborder", "marginwidth", "marginheight", "span", "aria-level", "aria-setsize", "aria-posinset",
    "aria-colcount", "aria-rowcount", "aria-valuenow", "aria-valuemin", "aria-valuemax", "cx", "cy", "r", "x1",
    "x2", "y1", "y2", "stroke-width", "stroke-miterlimit", "z-index", "line-height", "font-weight", "opacity",
    "flex-grow", "flex-shrink", "column-count", "orphans", "widows", "tab-size", "animation-iteration-count",
    "aspect-ratio"))
# Elements of HTML that hold what people read (https://html.spec.whatwg.org/#flow-content-2): a number there is prose.
_PROSE = frozenset((
    "a", "abbr", "address", "article", "aside", "b", "bdi", "blockquote", "button", "caption", "cite", "code", "dd",
    "del", "dfn", "div", "dt", "em", "figcaption", "footer", "h1", "h2", "h3", "h4", "h5", "h6", "header", "i",
    "ins", "kbd", "label", "legend", "li", "main", "mark", "meter", "nav", "option", "output", "p", "pre",
    "progress", "q", "s", "samp", "section", "small", "span", "strong", "sub", "summary", "sup", "td", "text",
    "textarea", "th", "time", "title", "tspan", "u", "var"))
# A password's hash (the modular crypt format, and those that are like it): what looks like a path in it is chance.
_HASHED = expression(r"(?:\$[\w.-]{1,20}|[a-z][a-z0-9_]{2,24})\$[\w./+=,$-]{20,}")
_CONTEXT, _WORDS = 80, 2
_YAML_LINE = expression(r"[ \t]*+(?:-[ \t].*|[\w.:\"'!-]+:(?:[ \t].*)?)?\r?")


@dataclass(frozen=True, slots=True)
class Spot:
    """A number in a text: the steps that lead to it from there (none: the text is the number, or a list of them), and
    where its digits are."""

    path: tuple[str, ...]
    start: int
    end: int


def numbers(text: str) -> list[tuple[tuple[str, ...], int]]:
    """Every number of a text that may be a row's, with its steps."""
    return [(spot.path, int(text[spot.start:spot.end])) for spot in spots(text)]


@lru_cache(maxsize=2048)
def spots(text: str) -> tuple[Spot, ...]:
    """Where such numbers are in a text, in order."""
    if _NUMBER.fullmatch(text):
        return (Spot((), 0, len(text)),)
    if not re.search(r"[1-9]", text) or len(text) > _LONGEST or _HASHED.fullmatch(text):
        return ()
    if _LIST.fullmatch(text) or _EDGED_LIST.fullmatch(text):
        return tuple(Spot((), m.start(), m.end()) for m in re.finditer(r"\d+", text))
    return tuple(sorted(_yaml(text) or _in_text(text), key=lambda s: s.start))


def in_key(text: str) -> list[tuple[str, Spot]]:
    """The numbers in the key of a map, each with its step."""
    return [("{" + "".join(spot.path).lstrip("~") + "}" if spot.path else "{#}", spot) for spot in spots(text)]


def is_text_step(step: str) -> bool:
    """Whether a step leads into a text."""
    return step[:1] in ("@", "~")


def is_standard(step: str) -> bool:
    """Whether an attribute is one whose number the standard of its language says: no row's."""
    name, _, kind = step[1:].partition("@")
    return step[:1] == "@" and kind[:1] not in ("!", "[") and name in _STANDARD


def word(step: str) -> str:
    """What a step into a text or a key says that it is: `tour` of `~app.tour:#`, `picture` of `@picture`."""
    if step[:1] == "{":
        step = "~" + step[1:-1]
    if step[:1] != "~":
        return step.lstrip("@").partition("@")[0].rstrip("-")
    parts = re.findall(r"[A-Za-z]+", step.rpartition("#")[0].replace("%2F", "/").replace("%3A", ":"))
    return parts[-1] if parts else ""


def _in_text(text: str) -> list[Spot]:
    spots: dict[int, Spot] = {}
    if _MAY_BE_NONE.search(text):
        text = _NO_NUMBERS.sub(lambda m: "." * len(m.group()), text)
    for step, start, end in _attributes(text):
        for m in re.finditer(r"\d+", text[start:end]):
            spots.setdefault(start + m.start(), Spot((step,), start + m.start(), start + m.end()))
    for m in _ALONE.finditer(text):
        if m.start() not in spots:
            step = _shape(text, m.start(), m.end())
            if step:
                spots[m.start()] = Spot((step,), m.start(), m.end())
    return list(spots.values())


def _shape(text: str, start: int, end: int) -> str:
    """The step of a number in a text; empty where nothing is written to it."""
    left = text[max(0, start - _CONTEXT):start]
    element = _ELEMENT.search(left)
    if element is not None and text[end:end + 2] == "</" and element.group(1).lower() not in _PROSE:
        return f"~<{element.group(1)}>#"
    before = _BEFORE.search(left)
    before_text = before.group() if before else ""
    words = _WORD.findall(before_text)
    if not words or (before_text[-1].isalpha() and not _WHOLE_WORD.search(before_text)):
        return ""  # prose; or a letter and a number, a tag's name, a part of a hash
    if before_text[:1] == "/" and left[:-len(before_text)].endswith("<"):
        return ""  # the end of an element
    if len(words) > _WORDS:
        before_text = "".join(words[-_WORDS:])
    after = text[end:end + 1]
    return f"~{before_text}#{after if after in '-_/:.=' and text[end + 1:end + 2].isalnum() else ''}"


def _attributes(text: str) -> Iterator[tuple[str, int, int]]:
    """The numbers that attributes and arguments hold: their steps, and where they are."""
    head = _HEAD.match(text)
    if head is not None:
        yield HEAD, *head.span(1)
    done = 0
    for part in _PART.finditer(text):
        yield from _named(text, done, part.start(), "")
        if part["comment"]:
            match = _SAYS_KIND_INSIDE.search(part["comment"])
            block = "!" + part["block"].replace("/", ".")
            yield from _named(text, *part.span(), f"@{block}={match.group(1)}" if match else f"@{block}")
        elif part["short"]:
            yield from _named(text, *part.span(), f"@[{part['name']}")
        else:
            kind = _SAYS_KIND.search(part["tag"])
            yield from _named(text, *part.span(), f"@{kind.group(1)}={kind.group(2)}" if kind else "")
            for classes in _CLASSES.finditer(text, *part.span()):
                yield from ((f"@{m.group(1)}-", *m.span(2)) for m in _NUMBERED.finditer(text, *classes.span(1)))
        done = part.end()
    yield from _named(text, done, len(text), "")


def _named(text: str, start: int, end: int, kind: str) -> Iterator[tuple[str, int, int]]:
    if _VALUE.search(text, start, end) is None:  # found at once, where names are looked for everywhere
        return
    for match in _ATTRIBUTE.finditer(text, start, end):
        if not re.search(r"[.:/#]$", text[max(start, match.start() - 1):match.start()]):  # part of a longer name
            yield f"@{match.group(1)}{kind}", *match.span(2)


def _yaml(text: str) -> list[Spot]:
    """The numbers of a text in YAML, by the paths of its scalars. Nothing is made of what its tags name: only its nodes
    are read (https://yaml.org/spec/1.2.2/#31-processes, Compose). Empty for any other text."""
    if len(text) > _YAML_LONGEST or "\n" not in text or not (
            text.startswith(("---", "%YAML")) or all(_YAML_LINE.fullmatch(line) for line in text.split("\n"))):
        return []
    import yaml  # here, for few sites hold any

    try:
        root = yaml.compose(text, Loader=yaml.SafeLoader)
    except (yaml.YAMLError, ValueError, RecursionError):
        return []
    return list(_scalars(text, root, (), set())) if root is not None else []


def _scalars(text: str, node: yaml.Node, path: tuple[str, ...], seen: set[int]) -> Iterator[Spot]:
    import yaml

    if id(node) in seen:
        return  # an alias
    seen.add(id(node))
    if isinstance(node, yaml.MappingNode):
        for key, value in node.value:
            name = str(key.value) if isinstance(key, yaml.ScalarNode) else "*"
            if isinstance(key, yaml.ScalarNode):
                yield from (Spot((*path, step), *span) for step, *span in _in_scalar(text, key, True))
            yield from _scalars(text, value, (*path, re.sub(r"^\d+$", "*", name)), seen)
    elif isinstance(node, yaml.SequenceNode):
        for value in node.value:
            yield from _scalars(text, value, (*path, "*"), seen)
    else:
        yield from (Spot((*path, step) if step else path, *span) for step, *span in _in_scalar(text, node, False))


def _in_scalar(text: str, node: yaml.Node, key: bool) -> Iterator[tuple[str, int, int]]:
    """The numbers of a scalar, where they stand in the whole text."""
    start, end = node.start_mark.index, node.end_mark.index
    at = text.find(str(node.value), start, end) if "\n" not in str(node.value) else -1
    if at >= 0:  # one that is written as it is, without escapes
        held = in_key(str(node.value)) if key else [("".join(s.path), s) for s in spots(str(node.value))]
        yield from ((step, at + s.start, at + s.end) for step, s in held)
