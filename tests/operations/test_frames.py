"""Coordinate systems, height shifts and control files that travel, against published points."""

import struct

import numpy as np
import pytest

from terrazza.core.georef import systems
from terrazza.db import queries
from terrazza.errors import TerrazzaError
from terrazza.formats import control
from tests.run import must, opened, perform


@pytest.mark.parametrize(
    ("code", "easting", "northing", "lon", "lat"),
    [
        # EPSG Guidance Note 7-2, worked examples: Transverse Mercator (OSGB36), Lambert Conic Conformal 1SP
        # (JAD69 / Jamaica), Mercator variant A (Makassar)
        ("EPSG:27700", 577274.99, 69740.50, 0.5, 50.5),
        ("EPSG:24200", 255966.58, 142493.51, -76.943683, 17.932167),
        ("EPSG:3001", 5009726.58, 569150.82, 120.0, -3.0),
    ],
)
def test_published_points(code, easting, northing, lon, lat):
    told = systems.geographic(systems.projected(code), easting, northing)
    assert np.allclose(told, (lon, lat), atol=2e-7)


def test_scale_and_convergence_by_hand():
    """On the central meridian of a UTM zone the scale is 0.9996 and the convergence 0; off it the convergence
    is nearly Δλ sin φ.
    """
    crs = systems.projected("EPSG:25832")
    middle = systems.factors(crs, 500_000, 5_400_000)
    assert middle["scale"] == pytest.approx(0.9996, abs=1e-9) and abs(middle["convergence_deg"]) < 1e-9
    off = systems.factors(crs, 600_000, 5_400_000)
    wanted = (off["lon"] - 9) * np.sin(np.radians(off["lat"]))
    assert off["convergence_deg"] == pytest.approx(wanted, rel=1e-3) and off["within"]
    assert not systems.factors(crs, 4_000_000, 1_000_000)["within"]


@pytest.mark.parametrize(
    ("code", "vertical", "words"),
    [
        ("EPSG:99999999", "", "no coordinate system"),
        ("EPSG:4326", "", "counts in degree"),
        ("somewhere over the rainbow", "", "No coordinate systems"),
        ("UTM zone 32N", "", "coordinate systems are named like"),
        ("EPSG:25832", "EPSG:4326", "no system of heights"),
        ("  ", "", "needs a code or a name"),
    ],
)
def test_systems_that_are_none_say_so(code, vertical, words):
    with pytest.raises(TerrazzaError, match=words):
        systems.projected(code, vertical)


def test_a_system_by_its_name():
    assert systems.projected("ETRS89 / UTM zone 32N").to_epsg() == 25832
    assert systems.projected("25832", "DHHN2016 height").is_compound


def grid(path, low=(7.0, 43.0), step=0.5, rows=9, columns=9):
    """A GTX of heights that grow by 1 m a degree to the east from 40 m."""
    at = 40 + (low[0] + step * np.arange(columns)) - low[0]
    head = struct.pack(">4d2i", low[1], low[0], step, step, rows, columns)
    path.write_bytes(head + np.tile(at, (rows, 1)).astype(">f4").tobytes())


def test_a_grid_of_heights(tmp_path):
    grid(tmp_path / "g.gtx")
    assert systems.undulation(str(tmp_path / "g.gtx"), 8.25, 44.1) == pytest.approx(41.25, abs=1e-5)
    with pytest.raises(TerrazzaError, match="outside the grid"):
        systems.undulation(str(tmp_path / "g.gtx"), 20.0, 44.0)
    (tmp_path / "no.gtx").write_bytes(b"nothing")
    with pytest.raises(TerrazzaError, match="no.gtx"):
        systems.undulation(str(tmp_path / "no.gtx"), 8.0, 44.0)


def test_frames_travel_from_job_to_job(copied, tmp_path):
    row = queries.job_by(name="Whole")
    told = must(copied, row, "georeference.crs", code="EPSG:25832")
    assert opened(copied, row).get("crs")["name"] == "ETRS89 / UTM zone 32N" and "scale" in told
    before = opened(copied, row).frame
    must(copied, row, "georeference.heights", by=1.5)
    assert np.allclose(opened(copied, row).frame - before, [[0] * 4, [0] * 4, [0, 0, 0, 1.5], [0] * 4])
    for params, words in (
        ({}, "not both or none"),
        ({"by": 1, "grid": "x.gtx"}, "not both"),
        ({"grid": "x.gtx"}, "not there"),
    ):
        entry = perform(copied, row, "georeference.heights", **params)
        assert entry.state == "failed" and words in entry.message
    for unit, per in (("metre", 1.0), ("US survey foot", 1200 / 3937)):
        figures = must(copied, row, "georeference.write_control", path=str(tmp_path / "c.csv"), unit=unit)
        back = control.read(str(tmp_path / "c.csv"))
        wanted = {r["name"]: r["at"] for r in figures["rows"]}
        assert len(wanted) == figures["points"] >= 6
        assert back.order == (0, 1, 2)
        for name, place in zip(back.names, back.columns):
            assert np.allclose(place * per, wanted[name], atol=6e-5)
    truth = opened(copied, row).facts("control")
    for name, place in wanted.items():
        if name in truth:
            known = np.array(truth[name]["grid"]) + [0, 0, truth[name]["target_height"] + 1.5]
            assert np.linalg.norm(known - np.array(place)) < 0.01
    entry = perform(copied, row, "georeference.write_control", targets=["Nobody"])
    assert entry.state == "failed" and "no target “Nobody”" in entry.message
