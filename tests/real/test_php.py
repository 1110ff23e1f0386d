"""PHP's serialised values, against PHP itself."""

import json
import subprocess
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from nostos.core.values import php
from nostos.core.values.rewriting import rewritten
from nostos.core.values.urls import UrlForms
from tests.real.servers import missing

LIVE, STAGING = UrlForms("https://ridge.example"), UrlForms("http://127.0.0.1:8432", also=("https://ridge.example",))


def php_says(code: str, given: str = "") -> str:
    done = subprocess.run(["php", "-r", code], input=given.encode(), capture_output=True, check=True, timeout=60)
    return done.stdout.decode()


values = st.recursive(
    st.none() | st.booleans() | st.integers(-2**63, 2**63 - 1) | st.text(max_size=8).filter(lambda t: "\0" not in t),
    lambda v: st.lists(v, max_size=3) | st.dictionaries(st.text("abé🌙-", min_size=1, max_size=4), v, max_size=3))


class Serialised(unittest.TestCase):
    @given(values)
    def test_there_and_back(self, value: Any) -> None:
        text = php.write(value)
        self.assertEqual(php.write(php.read(text)), text)

    def test_every_type(self) -> None:
        for text in ('N;', 'b:1;', 'i:-5;', 'd:0.1;', 'd:1.0E+25;', 'd:-INF;', 's:0:"";', 's:5:"naïf";',
                     'a:0:{}', 'a:2:{i:0;i:1;i:1;R:2;}', 'a:2:{i:1;i:1;i:0;i:2;}', 'a:1:{s:1:"a";a:1:{i:7;N;}}',
                     'O:8:"stdClass":1:{s:3:"url";s:1:"x";}', 'C:11:"ArrayObject":21:{x:i:0;a:0:{};m:a:0:{}}',
                     'E:7:"Sky:Dim";', 'O:3:"Old":1:{s:6:"\0Old\0a";i:1;}', 's:4:"a";b";'):
            self.assertEqual(php.write(php.read(text)), text)

    def test_what_is_broken_is_left_alone(self) -> None:
        url = "https://ridge.example"
        for text in (f's:5:"{url}";', f'a:1:{{i:0;s:21:"{url}";', f'a:2:{{i:0;s:21:"{url}";}}', f'a:1:{{s:1:"{url}"}}',
                     f's:21:"{url}"; ', 'a:1:{i:0;' * 300 + f's:21:"{url}";' + "}" * 300,
                     f's:21:"{url}', f'a:99999999999:{{i:0;s:21:"{url}";}}', f'i:1;s:21:"{url}";'):
            with self.subTest(text[:40]):
                self.assertRaises(ValueError, php.read, text)
                if text[0] != "i":
                    self.assertEqual(rewritten(text, LIVE, STAGING), text)

    def test_a_long_string(self) -> None:
        text = php.write(["é\r\n" * 1_400_000 + "https://ridge.example/"])
        self.assertEqual(rewritten(rewritten(text, LIVE, STAGING), STAGING, LIVE), text)


@unittest.skipIf(missing(), missing())
class AgainstPhp(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(values)
    def test_php_reads_what_is_written(self, value: Any) -> None:
        wanted = json.dumps(value if value != {} else [])
        said = php_says("echo json_encode(unserialize(file_get_contents('php://stdin')), JSON_PRESERVE_ZERO_FRACTION);",
                        php.write(value))
        self.assertEqual(_empty(json.loads(said)), _empty(json.loads(wanted)))

    def test_php_reads_what_is_rewritten(self) -> None:
        made = php_says(r"""
            class Sky { public $url = 'https://ridge.example/sky'; protected $p = 'https:\/\/ridge.example';
                        private $n = 1.5; public $self; public $list; public $copy; }
            $sky = new Sky; $sky->self = $sky; $sky->list = [1, 'x' => "é 🌙 //ridge.example/x"];
            $sky->copy = &$sky->list;
            $inner = serialize(['deep' => 'https://ridge.example', 'n' => [1, 2]]);
            $json = json_encode(['u' => 'https://ridge.example/a', 's' => $inner]);
            echo serialize(['sky' => $sky, 'inner' => $inner, 'json' => $json, 'twice' => serialize([$inner]),
                            'crlf' => "a\r\nhttps%3A%2F%2Fridge.example", 'float' => 0.1 + 0.2, 'null' => null]);""")
        changed = rewritten(made, LIVE, STAGING)
        self.assertNotIn("ridge.example", changed)
        self.assertEqual(rewritten(changed, STAGING, LIVE), made)
        checked = php_says(r"""
            class Sky { public $url; protected $p; private $n; public $self; public $list; public $copy;
                        function all() { return [$this->url, $this->p, $this->n, $this->self === $this]; } }
            $v = unserialize(file_get_contents('php://stdin')); $j = json_decode($v['json'], true);
            $v['sky']->copy[0] = 'shared';
            echo json_encode([$v['sky']->all(), $v['sky']->list, unserialize($v['inner']), $j['u'],
              unserialize($j['s']), unserialize(unserialize($v['twice'])[0]), $v['crlf'],
              $v['float'] === 0.1 + 0.2]);""", changed)
        site = "http://127.0.0.1:8432"
        deep = {"deep": site, "n": [1, 2]}
        self.assertEqual(json.loads(checked), [
            [f"{site}/sky", site.replace("/", "\\/"), 1.5, True], {"0": "shared", "x": "é 🌙 //127.0.0.1:8432/x"}, deep,
            f"{site}/a", deep, deep, "a\r\n" + site.replace(":", "%3A").replace("/", "%2F"), True])


def _empty(value: Any) -> Any:
    """JSON made by PHP writes empty maps as lists."""
    if isinstance(value, dict):
        return {k: _empty(v) for k, v in value.items()} or []
    return [_empty(v) for v in value] if isinstance(value, list) else value


