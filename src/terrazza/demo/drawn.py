"""The crew's sketch of the house: walls drawn by hand, and where they set up, no better than by eye."""

import os

import numpy as np
from PIL import Image, ImageDraw, ImageFont

SKETCH = "settegradini-sketch.png"
SIZE, SCALE = (1180, 520), 0.04  # pixels; m a pixel of what is drawn
CORNER = np.array([-17.0, 17.5])  # of the scene (m): the paper's upper left
PAPER, INK, PENCIL = (252, 249, 240), (40, 52, 66), (150, 74, 46)
# (x, y) of walls, pillars apart: from corner to corner as somebody sees them
WALLS = [
    [(-14.4, 8.0), (-14.4, 14.0), (26.0, 14.0), (26.0, 8.0), (24.0, 8.0)],
    [(14.0, 14.0), (14.0, 12.3)],
    [(14.0, 9.9), (14.0, 8.0), (22.6, 8.0)],
    [(19.6, 14.0), (19.6, 12.0)],
    [(19.6, 10.1), (19.6, 8.0)],
    [(-17.0, 0.0), (27.0, 0.0)],
]
WORDS = [("lemon house", -2.5, 9.6), ("store", 15.4, 9.4), ("press", 23.6, 9.3), ("terrace", 6.0, 4.2)]
BY_EYE, STROKE = 0.35, 0.06  # m: how well set-ups are drawn in, and how straight lines are


def pixel(places: np.ndarray) -> np.ndarray:
    """Pixels (n, 2) of places (n, 2) m of the scene."""
    return (np.asarray(places, float) - CORNER) * [1, -1] / SCALE


def marks(stations: list[tuple[str, float, float]], seed: int = 21) -> np.ndarray:
    """Where set-ups (name, x, y) are drawn in: pixels (n, 2)."""
    rng = np.random.default_rng([seed, 4])
    at = np.array([[x, y] for _, x, y in stations])
    return pixel(at + rng.normal(0, BY_EYE, at.shape))


def sketch(path: str, stations: list[tuple[str, float, float]], seed: int = 21) -> None:
    """Draw the sketch with its set-ups (name, x, y), numbered from 1, as PNG."""
    rng = np.random.default_rng([seed, 5])
    paper = Image.new("RGB", SIZE, PAPER)
    pen = ImageDraw.Draw(paper)
    for wall in WALLS:
        for a, b in zip(wall, wall[1:]):
            _stroke(pen, np.array(a), np.array(b), rng)
    for k in range(9):  # pillars of the open front
        _stroke(pen, np.array([-13.4 + 2.9 * k, 8.4]), np.array([-13.0 + 2.9 * k, 8.4]), rng, 5)
    font = ImageFont.load_default(22)
    for word, x, y in WORDS:
        pen.text(tuple(pixel([[x, y]])[0]), word, fill=INK, font=font, anchor="mm")
    for k, (x, y) in enumerate(marks(stations, seed), 1):
        pen.line([(x - 8, y - 8), (x + 8, y + 8)], PENCIL, 3)
        pen.line([(x - 8, y + 8), (x + 8, y - 8)], PENCIL, 3)
        pen.text((x + 14, y - 22), str(k), fill=PENCIL, font=font)
    paper.save(f"{path}.part", "PNG")
    os.replace(f"{path}.part", path)


def _stroke(
    pen: ImageDraw.ImageDraw, a: np.ndarray, b: np.ndarray, rng: np.random.Generator, width=3
) -> None:
    """One line as a hand draws it: it wanders, and overshoots a little."""
    n = max(int(np.linalg.norm(b - a) / 0.5), 2)
    way = a + np.linspace(-0.01, 1.01, n)[:, None] * (b - a)
    way += np.cumsum(rng.normal(0, STROKE / np.sqrt(n), way.shape), 0)
    pen.line([tuple(p) for p in pixel(way)], INK, width, joint="curve")
