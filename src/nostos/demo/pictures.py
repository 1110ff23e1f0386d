"""Pictures for the demo, drawn as SVG: hills, a dome, and a sky that depends on the subject."""

from __future__ import annotations

import math
import random

_SKIES = {
    "dusk": ("#1b2145", "#5a4a7c", "#e59a6f"),
    "night": ("#070b1e", "#131c42", "#2c3b73"),
    "dawn": ("#2a3a68", "#b986a0", "#f6cf9f"),
    "day": ("#5f9dd3", "#a9d0ea", "#eef5f2"),
}


def draw(subject: str, sky: str, seed: int) -> str:
    """An SVG picture, 960 x 540. subject: "dome", "saturn", "moon", "trails", "comet", "wheel" or "hill"."""
    chance = random.Random(seed)  # noqa: S311 - a drawing, not a secret
    top, middle, low = _SKIES[sky]
    parts = [
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 960 540" width="960" height="540">',
        '<defs><linearGradient id="sky" x1="0" y1="0" x2="0" y2="1">'
        f'<stop offset="0" stop-color="{top}"/><stop offset="0.6" stop-color="{middle}"/>'
        f'<stop offset="1" stop-color="{low}"/></linearGradient></defs>',
        '<rect width="960" height="540" fill="url(#sky)"/>',
    ]
    if sky != "day":
        for _ in range(170):
            x, y, r = chance.uniform(0, 960), chance.uniform(0, 400), chance.choice((0.7, 0.9, 1.2, 1.9))
            parts.append(f'<circle cx="{x:.0f}" cy="{y:.0f}" r="{r}" fill="#fff" '
                         f'opacity="{chance.uniform(0.25, 0.95):.2f}"/>')
    if subject in _SUBJECTS:
        parts += _SUBJECTS[subject](chance)
    for base, colour, height in ((430, "#2b3358", 70), (468, "#1a2140", 50), (505, "#0d1226", 34)):
        points = " ".join(f"{x},{base - height * (0.5 + 0.5 * math.sin(x / 130 + seed + base)):.0f}"
                          for x in range(0, 961, 24))
        parts.append(f'<polygon points="0,540 {points} 960,540" fill="{colour}"/>')
    if subject in ("dome", "trails", "comet", "hill"):
        parts.append(
            '<g transform="translate(640 372)"><path d="M-72 70 v-36 h144 v36 z" fill="#e9e4d8"/>'
            '<path d="M-64 34 a64 64 0 0 1 128 0 z" fill="#f7f4ec"/><path d="M6 -30 l14 4 v60 h-22 z" fill="#26304f"/>'
            '<rect x="-14" y="48" width="22" height="22" fill="#b4643c"/></g>')
    return "".join([*parts, "</svg>\n"])


def _saturn(_: random.Random) -> list[str]:
    return ['<g transform="translate(420 210) rotate(-18)"><ellipse rx="190" ry="46" fill="none" stroke="#d9c08c" '
            'stroke-width="20" opacity="0.85"/><circle r="92" fill="#e8cf9a"/><path d="M-190 0 a190 46 0 0 0 380 0" '
            'fill="none" stroke="#d9c08c" stroke-width="20"/></g>']


def _moon(_: random.Random) -> list[str]:
    return ['<circle cx="330" cy="190" r="110" fill="#f3efdf"/><circle cx="290" cy="160" r="20" fill="#dcd6c2"/>'
            '<circle cx="360" cy="220" r="28" fill="#dcd6c2"/><circle cx="345" cy="140" r="12" fill="#dcd6c2"/>']


def _trails(chance: random.Random) -> list[str]:
    return [f'<circle cx="330" cy="150" r="{r}" fill="none" stroke="#fff" stroke-width="1.4" '
            f'stroke-dasharray="{chance.randint(60, 160)} {chance.randint(200, 900)}" '
            f'opacity="{chance.uniform(0.3, 0.9):.2f}"/>' for r in range(20, 620, 9)]


def _comet(_: random.Random) -> list[str]:
    return ['<path d="M250 250 L620 60 L270 268 z" fill="#bfe3ee" opacity="0.5"/>'
            '<circle cx="258" cy="260" r="12" fill="#f4fdff"/>']


def _wheel(_: random.Random) -> list[str]:
    spokes = "".join(f'<line x2="150" transform="rotate({a})" stroke="#8d6b3a" stroke-width="2"/>'
                     for a in range(0, 360, 15))
    return [f'<g transform="translate(470 235)"><circle r="165" fill="#f1e2bd"/><circle r="150" fill="#23305f"/>'
            f'{spokes}<circle r="96" fill="#16204a" stroke="#f1e2bd" stroke-width="5"/>'
            '<circle cx="30" cy="-34" r="5" fill="#fff"/><circle cx="-40" cy="10" r="4" fill="#fff"/>'
            '<circle cx="12" cy="46" r="6" fill="#fff"/></g>']


_SUBJECTS = {"saturn": _saturn, "moon": _moon, "trails": _trails, "comet": _comet, "wheel": _wheel}
