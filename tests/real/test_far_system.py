"""The real PHP system on another machine, its database server reached through the connection."""

import os
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from nostos.core.anchor.open_voyage import opened
from nostos.core.hosts import connection
from nostos.core.plan.prepared import compare_voyage
from tests.hosts import far
from tests.real import test_system
from tests.real.servers import PhpSite, mariadb, missing


@unittest.skipIf(missing() or far.missing(), missing() or far.missing())
class FarSystem(test_system.SystemTest):
    there: far.Far

    @classmethod
    def setUpClass(cls) -> None:
        cls.there = far.Far()
        cls.enterClassContext(mock.patch.dict(os.environ, {"NOSTOS_SSH": cls.there.command}))
        cls.addClassCleanup(connection.close_all)

    def setUp(self) -> None:
        super().setUp()
        self.folder.chmod(0o777)
        Path(mariadb().socket).parent.chmod(0o711)  # its socket is reached by another account

    def ask(self, site: PhpSite, code: str) -> Any:
        try:
            return super().ask(site, code)
        finally:
            self.there.give(site.folder)

    @staticmethod
    def at(site: PhpSite) -> str:
        return f"{far.HOST}:{site.folder}"

    def test_a_compare_takes_few_trips(self) -> None:
        """However many tables there are: what is asked of all of them is asked at once."""
        staging = self.clone()
        super().ask(staging, "page('Autumn'); update_option('blogname', 'Ridge');")
        super().ask(self.live, "wp_insert_comment(['comment_post_ID' => 1, 'comment_content' => 'Lovely']);")
        connection.close_all()
        connection.reach(far.HOST)
        with opened(self.home, self.home.read("autumn")) as crew:
            self.assertIn("page/autumn", compare_voyage(crew)[0].items)
        # 47; one or two more where the answers to what is asked at once come apart, on a busy machine.
        self.assertLessEqual(connection.traffic()[far.HOST].trips, 49)

    test_a_copy_under_its_own_address = test_system.RealSystem.test_a_copy_under_its_own_address
    test_work_goes_home_and_live_keeps_its_own = test_system.RealSystem.test_work_goes_home_and_live_keeps_its_own
    test_both_sides_changed_one_thing = test_system.RealSystem.test_both_sides_changed_one_thing
