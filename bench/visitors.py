"""The real PHP system under visitors, alone and through merges and undos: `python -m bench.visitors [SECONDS]`.

Twenty requests a second browse, comment and order. Prints the longest that one waited, and what failed or was lost.
"""

from __future__ import annotations

import sys
import tempfile
import threading
import time
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import requests
from tests.real.servers import PhpSite, free_port

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home

_RATE = 20  # requests a second
_DESK = """<?php add_action('init', function () { global $wpdb; if (!isset($_POST['ware'])) return;
  $wpdb->insert('kr_orders', ['ware' => (int) $_POST['ware'], 'who' => $_POST['who'], 'total' => 9]);
  $wpdb->query('UPDATE kr_wares SET stock = stock - 1 WHERE id = ' . (int) $_POST['ware']);
  exit($wpdb->last_error ?: "ordered $wpdb->insert_id"); });
  add_filter('comment_flood_filter', '__return_false', 99); add_filter('duplicate_comment_id', '__return_zero');
"""
_SEED = """global $wpdb; $wpdb->query('CREATE TABLE kr_orders (id bigint AUTO_INCREMENT PRIMARY KEY, ware bigint, who
  varchar(60), total decimal(10,2), created timestamp DEFAULT current_timestamp)');
  $wpdb->query('CREATE TABLE kr_wares (id bigint AUTO_INCREMENT PRIMARY KEY, name varchar(60), stock int)');
  $wpdb->query("INSERT INTO kr_wares (name, stock) VALUES ('Ticket', 100000)");
  update_option('comment_moderation', '0'); update_option('comment_previously_approved', '0');
  update_option('require_name_email', '0');
  for ($i = 0; $i < 200; $i++) wp_insert_post(['post_type' => 'page', 'post_title' => "Page $i", 'post_status' =>
  'publish', 'comment_status' => 'open', 'post_content' => str_repeat("<p>Words of page $i.</p>\\n\\n", 30)]);"""
_WORK = """foreach (get_posts(['post_type' => 'page', 'numberposts' => 40, 'order' => 'ASC', 'orderby' => 'ID']) as $p)
  wp_update_post(['ID' => $p->ID, 'post_content' => "<p>Changed</p>\\n\\n" . $p->post_content]);
  for ($i = 0; $i < 10; $i++) wp_insert_post(['post_type' => 'page', 'post_title' => "New $i", 'post_status' =>
  'publish']);"""


class Visitors:
    """Requests at a steady rate, whatever the answers take."""

    def __init__(self, url: str, page: int) -> None:
        self.url, self.page = url, page
        self.waits: list[float] = []
        self.failed: list[str] = []
        self.said: list[str] = []  # orders and comments that were acknowledged
        self.count = 0

    def run(self, until: Callable[[], bool]) -> float:
        """Visit until told to stop. Returns the longest wait, seconds."""
        self.waits = []
        begun, number = time.monotonic(), 0
        with ThreadPoolExecutor(32) as pool:
            while not until():
                pool.submit(self._visit, self.count)
                self.count += 1
                number += 1
                time.sleep(max(0.0, begun + number / _RATE - time.monotonic()))
        return max(self.waits)

    def _visit(self, number: int) -> None:
        who = f"visitor-{number}"
        path, form = f"/?page_id={self.page + number % 200}", None
        if number % 4 == 0:
            path, form = "/wp-comments-post.php", {
                "comment": who, "author": who, "comment_post_ID": self.page + number % 200}
        elif number % 4 == 1:
            path, form = "/", {"ware": 1, "who": who}
        begun = time.monotonic()
        try:
            answer = requests.request("POST" if form else "GET", self.url + path, data=form, timeout=60,
                                      allow_redirects=False)
            answer.raise_for_status()
            if form and "ware" in form and not answer.text.startswith("ordered"):
                raise OSError(answer.text[:80])
            if form:
                self.said.append(who)
        except OSError as error:
            self.failed.append(f"{path}: {error}")
        self.waits.append(time.monotonic() - begun)


def main(seconds: float) -> None:
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        live = PhpSite(folder / "live").install()
        (live.folder / "wp-content/mu-plugins").mkdir(exist_ok=True)
        (live.folder / "wp-content/mu-plugins/desk.php").write_text(_DESK)
        live(_SEED)
        staging, home = PhpSite(folder / "staging", free_port()), Home(folder / "home")
        clone(home, live.folder, "bench", staging.folder, staging.url)
        staging(_WORK)
        served = unittest.TestCase()
        live.serve(served, workers=8)
        try:
            visitors = Visitors(live.url, int(live("echo get_page_by_path('page-0')->ID;")))
            end = time.monotonic() + seconds
            alone = visitors.run(lambda: time.monotonic() > end)
            done = threading.Event()
            rounds: list[float] = []
            work = threading.Thread(target=_rounds, args=(home, seconds, rounds, done))
            work.start()
            through = visitors.run(done.is_set)
            work.join()
            there = live("global $wpdb; echo implode(' ', array_merge($wpdb->get_col('SELECT who FROM kr_orders'), "
                         "$wpdb->get_col('SELECT comment_author FROM kr_comments')));").split()
        finally:
            served.doCleanups()
    lost = set(visitors.said) - set(there)
    print(f"{_RATE} requests a second: {visitors.count} in all, {len(visitors.said)} orders and comments")
    print(f"longest wait alone {alone * 1000:.0f} ms, through {len(rounds)} merges and undos {through * 1000:.0f} ms, "
          f"ratio {through / alone:.2f} (bar: 2)")
    print(f"live's rows were locked for at most {max(rounds) * 1000:.0f} ms")
    print(f"failed: {len(visitors.failed)} (bar: 0), lost: {len(lost)} (bar: 0)", *visitors.failed[:3])


def _rounds(home: Home, seconds: float, rounds: list[float], done: threading.Event) -> None:
    """Merge and take back, again and again."""
    end = time.monotonic() + seconds
    try:
        while time.monotonic() < end or len(rounds) < 2:
            with opened(home, home.read("bench")) as crew:
                rounds.append(merge(home, crew, prepare(crew, Choice(("page/*",)))).locked)
            with opened(home, home.read("bench")) as crew:
                back = prepare_undo(home, crew, to_take_back(home, "bench", None))
                rounds.append(merge(home, crew, back).locked)
    finally:
        done.set()


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 20)
