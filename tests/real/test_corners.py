"""The real PHP system in its corners: accounts, caches that hold more, trash, its configuration, asked through itself."""

from __future__ import annotations

import unittest

from nostos.core.anchor.open_voyage import opened
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from tests.real.servers import missing
from tests.real.test_system import SystemTest


@unittest.skipIf(missing(), missing())
class Corners(SystemTest):
    def test_accounts_go_home_only_when_they_are_named(self) -> None:
        self.ask(self.live, "wp_insert_user(['user_login' => 'ed', 'user_pass' => 'old', 'role' => 'editor', "
                            "'user_email' => 'ed@ridge.example']); set_transient('cart_9', ['ware' => 3], 9999);")
        staging = self.clone()
        self.ask(staging, """
            $ed = get_user_by('login', 'ed'); wp_set_password('tried', $ed->ID); $ed->set_role('administrator');
            wp_update_user(['ID' => $ed->ID, 'display_name' => 'Edda']);
            $new = wp_insert_user(['user_login' => 'trial', 'user_pass' => 'x', 'role' => 'administrator',
              'user_email' => 'trial@ridge.example']);
            page('Plain'); page('By trial', ['post_author' => $new]);""")
        _, left = self.merge()
        state = ("$ed = get_user_by('login', 'ed'); echo json_encode([wp_check_password('old', $ed->user_pass), "
                 "$ed->roles, (bool) get_user_by('login', 'trial'), (bool) get_page_by_path('plain'), "
                 "(bool) get_page_by_path('by-trial'), get_transient('cart_9')]);")
        self.assertEqual(self.ask(self.live, state), [True, ["editor"], False, True, False, {"ware": 3}])
        self.assertEqual({n: left[n] for n in ("user/ed", "user/trial", "page/by-trial")},
                         dict.fromkeys(("user/ed", "user/trial", "page/by-trial"), "homeward"))
        with opened(self.home, self.home.read("autumn")) as crew:
            told = prepare(crew, Choice(("page/*", "user/ed"))).plan.selection
        self.assertIn("user/ed gets administrator rights", told.warnings)
        self.assertTrue(any(w.startswith("page/by-trial stays, for it needs user/trial") for w in told.warnings))
        self.merge("page/by-trial", "user/trial")
        said = self.ask(self.live, "$p = get_page_by_path('by-trial'); echo json_encode([get_userdata("
                                   "$p->post_author)->user_login, get_user_by('login', 'ed')->roles]);")
        self.assertEqual(said, ["trial", ["editor"]])


if __name__ == "__main__":
    unittest.main()
