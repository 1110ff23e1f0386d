"""The marks that neutral tokens stand between.

They are Unicode noncharacters, which no text meant for people holds. Where a site's text holds one all the same, it is
escaped, so that nothing in a site's content can pass for a token.
"""

OPEN, CLOSE = "\ufdd0", "\ufdd1"
_ESCAPED_OPEN, _ESCAPED_CLOSE = f"{OPEN}e{CLOSE}", f"{OPEN}f{CLOSE}"


def escape(text: str) -> str:
    """The text with marks of its own made harmless."""
    if OPEN not in text and CLOSE not in text:
        return text
    return "".join(_ESCAPED_OPEN if c == OPEN else _ESCAPED_CLOSE if c == CLOSE else c for c in text)


def unescape(text: str) -> str:
    """The text that `escape` was given."""
    if OPEN not in text:
        return text
    return text.replace(_ESCAPED_CLOSE, CLOSE).replace(_ESCAPED_OPEN, OPEN)
