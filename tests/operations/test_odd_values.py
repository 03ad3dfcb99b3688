"""Values that files hold oddly: floating colours and intensities, returns at the scanner itself."""

import numpy as np
import pytest
from pye57 import libe57

from terrazza.formats import e57, e57_writer
from tests.run import must

XYZ = np.random.default_rng(8).uniform(-8, 8, (4000, 3))


def floating(path, top, limits=None, intensity=None):
    """An E57 by the bare library whose colours and intensities are floating numbers from 0 to ``top``."""
    image = libe57.ImageFile(str(path), "w")
    try:
        root = image.root()
        root.set("formatName", libe57.StringNode(image, "ASTM E57 3D Imaging Data File"))
        data = libe57.VectorNode(image, True)
        root.set("data3D", data)
        scan, proto, held = libe57.StructureNode(image), libe57.StructureNode(image), {}
        values = {
            "cartesianX": XYZ[:, 0],
            "cartesianY": XYZ[:, 1],
            "cartesianZ": XYZ[:, 2],
            "colorRed": np.linspace(0, top, 4000),
            "colorGreen": np.full(4000, top / 2),
            "colorBlue": np.zeros(4000),
        }
        values |= {"intensity": intensity} if intensity is not None else {}
        for name in values:
            proto.set(name, libe57.FloatNode(image, 0.0))
        scan.set("guid", libe57.StringNode(image, "{1}"))
        if limits:
            node = libe57.StructureNode(image)
            for c in ("Red", "Green", "Blue"):
                node.set(f"color{c}Minimum", libe57.FloatNode(image, 0.0))
                node.set(f"color{c}Maximum", libe57.FloatNode(image, limits))
            scan.set("colorLimits", node)
        points = libe57.CompressedVectorNode(image, proto, libe57.VectorNode(image, True))
        scan.set("points", points)
        data.append(scan)
        buffers = libe57.VectorSourceDestBuffer()
        for name, value in values.items():
            held[name] = np.ascontiguousarray(value, float)
            buffers.append(libe57.SourceDestBuffer(image, name, held[name], 4000, True, True))
        writer = points.writer(buffers)
        writer.write(4000)
        writer.close()
    finally:
        image.close()
    return str(path)


@pytest.mark.parametrize(
    ("top", "limits"), [(1.0, None), (1.0, 1.0), (0.83, None), (255.0, None), (200.0, 255.0), (65535.0, None)]
)
def test_floating_colours_keep_their_brightness(tmp_path, top, limits):
    red = np.concatenate(
        [c["native_rgb"] for c in e57.read_points(floating(tmp_path / "f.e57", top, limits), 0)]
    )[:, 0]
    full = next(t for t in (1.0, 255.0, 65535.0) if top <= t)
    assert np.abs(red - np.linspace(0, top, 4000) / full * 255).max() <= 0.51


@pytest.mark.parametrize("top", [1.0, 230.0, 4000.0, 60_000.0])
def test_floating_intensities_without_limits_keep_their_order(tmp_path, top):
    value = np.linspace(0, top, 4000)
    path = floating(tmp_path / "i.e57", 1.0, None, value)
    gain, start = e57.look(path).scans[0].intensity_as or (1.0, 0.0)
    got = np.concatenate([c["intensity"] for c in e57.read_points(path, 0)]) * gain + start
    assert np.abs(got - value).max() <= max(gain, 1e-4)


def test_returns_at_the_scanner_itself_are_left_out_and_told(workspace, row, tmp_path):
    xyz = np.r_[XYZ, np.zeros((1500, 3))]
    with e57_writer.Writer(str(tmp_path / "z.e57")) as out:
        out.add_scan("Z", [{"xyz": xyz}], ["xyz"])
    figures = must(workspace, row, "import.files", files=[str(tmp_path / "z.e57")])
    assert (
        figures["points"] == 4000
        and figures["lost"] == 0
        and [(r["code"], r["count"]) for r in figures["repairs"]] == [("no_echo", 1500)]
    )
