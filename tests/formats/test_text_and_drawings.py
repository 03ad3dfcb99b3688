"""Control files in every shape, text points, DXF and reports."""

import re

import ezdxf
import numpy as np
import pypdf
import pytest

from terrazza.errors import InputError
from terrazza.formats import control, dxf, report, report_pdf, xyz

NUMBERS = [("P1", 4210.5, 8835.25, 312.125), ("P2", 4220.0, 8840.5, 313.5), ("P 3", 4230.75, 8850.0, 311.0)]


def lines(mark, order=(0, 1, 2, 3), decimal="."):
    return "\n".join(
        mark.join(f"{row[k]}".replace(".", decimal) if k else row[0].replace(" ", "") for k in order)
        for row in NUMBERS
    )


@pytest.mark.parametrize(
    ("text", "order"),
    [
        ("point,easting,northing,height\n" + lines(","), (0, 1, 2)),
        ("Name;Rechtswert;Hochwert;Quota\n" + lines(";", decimal=","), (0, 1, 2)),
        ("id\tN\tE\tH\n" + lines("\t", (0, 2, 1, 3)), (0, 1, 2)),
        ("h e n pt\n" + lines(" ", (3, 1, 2, 0)), (0, 1, 2)),
        ("# a comment\n\n" + lines(","), None),
        (lines(" "), None),
        (lines(";", decimal=","), None),
        ("\ufeff" + lines("\t"), None),
    ],
)
def test_control_in_any_shape(tmp_path, text, order):
    (tmp_path / "c.csv").write_text(text, encoding="utf-8")
    read = control.read(str(tmp_path / "c.csv"))
    assert read.names == ["P1", "P2", "P3"] and read.order == order
    assert np.allclose(read.columns, [n[1:] for n in NUMBERS])
    assert not read.check.any() and not read.target_heights.any()


def test_roles_and_target_heights(tmp_path):
    (tmp_path / "c.csv").write_text(
        "point,easting,northing,height,target_height,role\nA,1,2,3,1.45,control\nB,4,5,6,,check\n"
        "C,7,8,9,0,Check "
        ""
        ""
        "Point\n"
    )
    read = control.read(str(tmp_path / "c.csv"))
    assert read.target_heights.tolist() == [1.45, 0, 0] and read.check.tolist() == [False, True, True]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "holds no points"),
        ("# nothing\n\n", "holds no points"),
        ("A,1,2\n", "fewer than three"),
        ("point,e,n,h\nA,1,2,x\n", "line 2"),
        ("point,e,n,h\nA,1,2,nan\n", "line 2"),
        ("A,1,2,3\nA,4,5,6\n", "more than once"),
    ],
)
def test_bad_control_names_the_line(tmp_path, text, words):
    (tmp_path / "bad.csv").write_text(text)
    with pytest.raises(InputError, match=words):
        control.read(str(tmp_path / "bad.csv"))


def test_missing_control(tmp_path):
    with pytest.raises(InputError, match="not there"):
        control.read(str(tmp_path / "no.csv"))


@pytest.mark.parametrize("delimiter", [" ", ",", ";", "\t"])
@pytest.mark.parametrize("columns", [(), ("intensity",), ("intensity", "rgb", "class")])
def test_text_points_come_back(tmp_path, delimiter, columns):
    rng = np.random.default_rng(0)
    chunk = {
        "xyz": rng.uniform(-1000, 9000, (1200, 3)),
        "intensity": rng.integers(0, 65536, 1200),
        "rgb": rng.integers(0, 256, (1200, 3)),
        "class": rng.integers(0, 20, 1200),
    }
    path = tmp_path / "p.xyz"
    with xyz.Writer(str(path), xyz.Lines(columns, 4, delimiter)) as out:
        out.put(out.lines.text({k: v[:700] for k, v in chunk.items()}))
        out.put(out.lines.text({k: v[700:] for k, v in chunk.items()}))
    read = np.loadtxt(path, delimiter=None if delimiter in " \t" else delimiter)
    assert np.abs(read[:, :3] - chunk["xyz"]).max() < 0.51e-4
    at = 3
    for name in columns:
        width = 3 if name == "rgb" else 1
        assert (read[:, at : at + width] == chunk[name].reshape(1200, -1)).all()
        at += width
    assert read.shape[1] == at


def test_drawings_open_without_complaint(tmp_path):
    path = str(tmp_path / "plan.dxf")
    dxf.write(
        path,
        [
            {
                "vertices": [[0, 0], [6.5, 0], [6.5, 4]],
                "layer": "WALLS",
                "name": "Sala é",
                "closed": True,
                "elevation": 315.7,
            },
            {
                "vertices": [[1, 1], [2, 2]],
                "layer": "A<b>/c",
                "name": "two",
                "closed": False,
                "elevation": 0.0,
            },
        ],
    )
    document = ezdxf.readfile(path)
    assert document.dxfversion >= "AC1024" and document.units == ezdxf.units.M
    assert not document.audit().has_errors
    first, second = document.layouts.get("Model")
    assert first.dxf.layer == "WALLS" and first.closed and first.dxf.elevation == 315.7
    assert [tuple(p) for p in first.get_points("xy")] == [(0, 0), (6.5, 0), (6.5, 4)]
    assert first.get_xdata("TERRAZZA")[0].value == "Sala é"
    assert second.dxf.layer == "A-b--c" and not second.closed


PLAN = report.Plan(
    ties=[((0, 0), (4, 3), False), ((0, 0), (4, 0), True)],
    stations=[("1", 0, 0), ("2", 4, 3)],
    control=[("L1", 2, 2)],
    ellipses=[(4, 3, 0.002, 0.001, 0.3)],
    enlarged=200.0,
)


def test_reports_say_the_same_in_both_forms(tmp_path):
    """Every figure of the page is in the PDF, signs that the face lacks too; chapters are found by page."""
    bars = report.Bars.of("Residuals", [0.4, 1.2, 1.3, 2.9], "mm")
    blocks = [
        report.Contents(),
        report.Heading("Registration"),
        report.Text("Cloud RMS 2.6 mm & more, σ 0.3 mm, Łódź, Αθήνα"),
        report.Rows(["Scan", "σ mm"], [["Lemon <house>", "0.12"]] * 60, {1}),
        report.Break(),
        report.Heading("Second"),
        PLAN,
        bars,
        report.Sign(["Place, date", "Signature"]),
    ]
    page = report.to_html("Été", blocks)
    assert "Lemon &lt;house&gt;" in page and page.count("<svg") == 2 and "2.6 mm &amp; more" in page
    report_pdf.to_pdf(str(tmp_path / "r.pdf"), "Été", blocks)
    read = pypdf.PdfReader(tmp_path / "r.pdf")
    texts = [p.extract_text() for p in read.pages]
    whole = "".join(texts)
    assert len(texts) == 3 and whole.count("0.12") == 60
    for told in ("Cloud RMS 2.6 mm & more, σ 0.3 mm, Łódź, Αθήνα", "Residuals, mm", "Signature", "N"):
        assert told in whole and told.replace("&", "&amp;") in page
    assert [o.title for o in read.outline] == ["Registration", "Second"]
    assert all(f"page {k} of 3" in t for k, t in enumerate(texts, 1))
    assert [read.get_destination_page_number(o) for o in read.outline] == [0, 2]
    assert re.search(r"[. ]+ 3\nSecond\n", texts[0]), "the contents say where"
    assert sum(bars.counts) == 4 and bars.edges[0] == 0 and bars.edges[-1] >= 2.9
    assert PLAN.bar(50.0) == 10 and PLAN.bar(7.0) == 1


@pytest.mark.parametrize(
    ("values", "edges", "counts"),
    [([0.0, 0.0], [0.0, 1e-6], [2]), ([-1.0, 1.0], [-1.0, 1.0], [1, 1]), ([0.0, 24.0], [0.0, 24.0], [1, 1])],
)
def test_bars_are_histograms_of_round_steps(values, edges, counts):
    bars = report.Bars.of("", values, "mm")
    assert bars.edges[0] == pytest.approx(edges[0]) and bars.edges[-1] >= edges[-1]
    assert [c for c in bars.counts if c] == counts


@pytest.mark.parametrize(("wide", "scale"), [(4.0, 50), (60.0, 500), (3000.0, 20_000)])
def test_a_plan_is_to_scale(wide, scale):
    """The largest scale at which it fits 174 × 150 mm, the edge about it included."""
    plan = report.Plan(stations=[("1", 0, 0), ("2", wide, 0)])
    low, high = plan.bounds()
    assert plan.scale == scale and (high - low)[0] / plan.scale <= 0.174
    ring = PLAN.ellipse(PLAN.ellipses[0], 400)
    far = np.linalg.norm(ring - [4, 3], axis=1)
    assert far.max() == pytest.approx(0.4) and far.min() == pytest.approx(0.2)
    along = ring[far.argmax()] - [4, 3]
    assert np.arctan2(along[1], along[0]) % np.pi == pytest.approx(0.3, abs=0.02)


def test_an_empty_plan_is_no_reason_to_fail(tmp_path):
    report_pdf.to_pdf(str(tmp_path / "e.pdf"), "Empty", [report.Plan(), report.Rows(["A"], [])])
    assert (tmp_path / "e.pdf").stat().st_size > 500
