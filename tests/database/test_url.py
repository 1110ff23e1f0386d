"""Database URLs: what is written is read as it was, and no text shows a password unless it is asked for."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from nostos.core.database.url import DatabaseUrl, read_url

WORDS = st.text(st.characters(exclude_categories=("Cs",)), min_size=1, max_size=12)
HOSTS = st.sampled_from((None, "localhost", "db.example", "::1", "2001:db8::7"))


class Urls(unittest.TestCase):
    @given(WORDS, WORDS, HOSTS, st.none() | st.integers(1, 65535), WORDS, st.dictionaries(WORDS, WORDS, max_size=3))
    def test_written_and_read(self, user: str, password: str, host: str | None, port: int | None, database: str,
                              options: dict[str, str]) -> None:
        url = DatabaseUrl("mysql", user, password, host, port, database.replace("?", "_"), options)
        self.assertEqual(url, read_url(url.render_as_string(hide_password=False)))
        said = DatabaseUrl("mysql", "u", "s3cret" + password, host, port, "d").update_query_dict({"schema": "x"})
        self.assertNotIn("s3cret", f"{said} {said!r} {[said]}")

    def test_as_people_write_them(self) -> None:
        for text, meant in {
            "sqlite:///data/site.db": DatabaseUrl("sqlite", database="data/site.db"),
            "sqlite:////srv/site.db": DatabaseUrl("sqlite", database="/srv/site.db"),
            "mysql://live:a/b?c:d@localhost/shop?unix_socket=/run/x.sock": DatabaseUrl(
                "mysql", "live", "a/b?c:d", "localhost", None, "shop", {"unix_socket": "/run/x.sock"}),
            "postgresql://u%40x:p%20w@[::1]:5433/shop": DatabaseUrl("postgresql", "u@x", "p w", "::1", 5433, "shop"),
            "mysql://localhost": DatabaseUrl("mysql", host="localhost"),
        }.items():
            with self.subTest(text):
                self.assertEqual(meant, read_url(text))
        for text in ("", "data/site.db", "mysql:/x", "mysql://host:port/x"):
            with self.subTest(text), self.assertRaises(ValueError):
                read_url(text)


if __name__ == "__main__":
    unittest.main()
