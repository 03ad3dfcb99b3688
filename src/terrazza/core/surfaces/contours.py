"""Lines of one height on a surface of triangles."""

import numpy as np

from terrazza.core.surfaces.ground import Surface


def contours(surface: Surface, step: float) -> list[tuple[float, np.ndarray, bool]]:
    """(height, (n, 2) places, closed) of every line at a multiple of ``step`` (m), in order of height.

    A vertex at exactly the height counts as above it, so that every line runs through edges only.
    """
    z = surface.vertices[:, 2]
    if not len(surface.triangles):
        return []
    first, last = np.floor(z.min() / step) + 1, np.floor(z.max() / step)
    out = []
    for k in np.arange(first, last + 1):
        out += [(float(k * step), *line) for line in level(surface, float(k * step))]
    return out


def level(surface: Surface, height: float) -> list[tuple[np.ndarray, bool]]:
    """(places (n, 2), closed) of the lines at one height."""
    above = surface.vertices[:, 2] >= height
    tri = surface.triangles
    up = above[tri]
    cut = tri[(up.sum(1) % 3) > 0]
    if not len(cut):
        return []
    edges = np.stack([cut[:, [0, 1]], cut[:, [1, 2]], cut[:, [2, 0]]], 1)
    crossed = above[edges[..., 0]] != above[edges[..., 1]]
    pairs = np.sort(edges[crossed], axis=1)  # two of every triangle, one after the other
    names, number = np.unique(pairs, axis=0, return_inverse=True)
    a, b = surface.vertices[names[:, 0]], surface.vertices[names[:, 1]]
    share = ((height - a[:, 2]) / (b[:, 2] - a[:, 2]))[:, None]
    places = a[:, :2] + share * (b[:, :2] - a[:, :2])
    return [(places[chain], closed) for chain, closed in _chains(number.reshape(-1, 2), len(names))]


def _chains(links: np.ndarray, count: int) -> list[tuple[list[int], bool]]:
    """Runs of linked nodes, each of which has one or two links."""
    near: list[list[int]] = [[] for _ in range(count)]
    for a, b in links.tolist():
        near[a].append(b)
        near[b].append(a)
    done, out = np.zeros(count, bool), []
    starts = [k for k in range(count) if len(near[k]) == 1] + list(range(count))
    for start in starts:
        if done[start]:
            continue
        chain, now = [start], start
        done[start] = True
        while (after := next((k for k in near[now] if not done[k]), None)) is not None:
            done[after] = True
            chain.append(after)
            now = after
        if len(chain) > 1:
            out.append((chain, len(chain) > 2 and start in near[now]))
    return out
