"""Which other machines a copy's settings name."""

import unittest

from nostos.core.clone.clone import clone
from nostos.core.clone.other_machines import machines_in
from tests.support import Harbour, SiteTest

SAID = """# MAIL_HOST=old.example.net
MAIL_HOST=smtp.example.net
MAIL_FROM=info@ridge.example
REDIS_URL=redis://:word@cache.example.net:6379/0
SEARCH_SERVER=127.0.0.1
PAYMENT_ENDPOINT=https://pay.example.org/v1
HOME_URL=https://ridge.example/cache-server
"""


class OtherMachines(SiteTest):
    def test_what_names_a_machine(self) -> None:
        found = [(m.host, m.is_mail) for m in machines_in("app/.env", SAID, {"ridge.example"})]
        self.assertEqual(found, [("smtp.example.net", True), ("cache.example.net", False), ("pay.example.org", False)])
        for text in ("'smtp_host' => 'smtp.example.net',", '"smtpHost": "smtp.example.net"',
                     "smtp.host: smtp.example.net"):
            self.assertEqual([m.host for m in machines_in("config/mail.php", text, ())], ["smtp.example.net"], text)
        self.assertEqual(list(machines_in("lib/mailer.php", "'smtp_host' => 'smtp.example.net',", ())), [])

    def test_a_clone_says_so(self) -> None:
        h = Harbour(self.folder)
        (h.live_folder / "mail.ini").write_text("smtp_host = smtp.example.net\n")
        made = clone(h.home, str(h.live_folder), "second", str(self.folder / "second"), "http://127.0.0.1:8433")
        self.assertEqual([(m.place, m.host) for m in made.machines], [("mail.ini", "smtp.example.net")])


if __name__ == "__main__":
    unittest.main()
