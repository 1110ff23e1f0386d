"""The real PHP system, masked and behind a gate: administrators log in, nobody's data is there, nothing goes home."""

import base64
import unittest
import urllib.error
import urllib.request

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.sites.guards import gate
from nostos.core.sites.recognise import recognise
from tests.real.servers import mariadb, missing
from tests.real.test_system import SystemTest

PEOPLE = """
$id = wp_insert_user(['user_login' => 'marguerite', 'user_pass' => 'pw', 'user_email' => 'm.dupond@visitor.example',
  'display_name' => 'Marguerite Dupond', 'first_name' => 'Marguerite', 'last_name' => 'Dupond',
  'role' => 'subscriber']);
update_user_meta($id, 'billing_phone', '+44 20 7946 0999');
wp_insert_comment(['comment_post_ID' => 1, 'comment_author' => 'Marguerite Dupond', 'user_id' => $id,
  'comment_author_email' => 'm.dupond@visitor.example', 'comment_author_IP' => '203.0.113.77',
  'comment_content' => 'Hm']);
wp_set_password('keeper-pw', 1);"""
SEEN = """$u = get_users(['role' => 'subscriber'])[0]; $a = wp_authenticate('admin', 'keeper-pw');
$c = get_comments(['user_id' => $u->ID])[0];
echo json_encode([$u->user_login, $u->user_email, $c->comment_author_email, $c->comment_author_IP, $u->display_name,
  is_wp_error($a) ? 'no' : $a->ID, is_wp_error(wp_authenticate('marguerite', 'pw'))]);"""


@unittest.skipIf(missing(), missing())
class Masked(SystemTest):
    def test_masked_and_gated(self) -> None:
        admin = self.ask(self.live, PEOPLE + "echo json_encode(get_userdata(1)->user_login);")
        staging = self.clone(mask=True, gate=gate("colleague", "pass"))
        self.assertEqual(self.standings(), {})
        login, mail, same, ip, name, who, refused = self.ask(staging, SEEN.replace("'admin'", f"'{admin}'"))
        self.assertRegex(f"{login} {mail} {ip}", r"^member-\w{12} \w{12}@masked\.example 10\.\d+\.\d+\.\d+$")
        self.assertEqual((mail, who, refused), (same, 1, True))
        self.assertNotIn("Dupond", name)
        place = self.home.read("autumn").place
        for (table,) in mariadb().run("SHOW TABLES", database=place):
            held = repr(mariadb().run(f"SELECT * FROM `{table}`", database=place))
            for original in ("marguerite", "Dupond", "m.dupond@", "203.0.113.77", "7946 0999"):
                self.assertNotIn(original.lower(), held.lower(), table)
        staging.serve(self)
        with self.assertRaises(urllib.error.HTTPError) as caught:
            urllib.request.urlopen(staging.url + "/", timeout=60)
        self.assertEqual(caught.exception.code, 401)
        asked = urllib.request.Request(staging.url + "/", headers={
            "Authorization": "Basic " + base64.b64encode(b"colleague:pass").decode()})
        self.assertIn("STAGING COPY", urllib.request.urlopen(asked, timeout=60).read().decode())
        self.ask(staging, "page('New'); wp_update_user(['ID' => get_users(['role' => 'subscriber'])[0]->ID, "
                          "'display_name' => 'Someone', 'role' => 'author']);")
        with opened(self.home, self.home.read("autumn")) as crew:
            merge(self.home, crew, prepare(crew))
            self.assertEqual([i.id for i in compare_voyage(crew)[0].items.values() if i.standing == "clash"], [])
        users = repr(mariadb().run("SELECT * FROM kr_users", database=self.live_name()))
        self.assertIn("m.dupond@visitor.example", users)
        self.assertNotIn("masked.example", users)
        self.assertNotIn("Someone", users)

    def live_name(self) -> str:
        return str(recognise(self.live.folder).database.url.database)


del SystemTest
