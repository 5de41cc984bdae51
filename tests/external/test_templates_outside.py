"""Templates read back: by ezdxf, by svgelements (SVG 2, 8.9), and printed pages measured by poppler's renderer."""

from __future__ import annotations

import io
import shutil
import subprocess
from pathlib import Path

import ezdxf
import numpy as np
import pytest
import svgelements
from ezdxf import units
from PIL import Image

from kyklon.catalogue.loader import Catalogue
from kyklon.demo import camper, lighthouse, school_fair
from kyklon.model.build import Build, edited
from kyklon.operations.assembly.templates import (
    SCREW_MM,
    SOCKET_MM,
    Hole,
    Plate,
    as_dxf,
    as_pages,
    as_svg,
    back_plate,
    outside,
    plates,
    steps_of,
)

PDFTOPPM = shutil.which("pdftoppm")
PX_MM = 96 / 25.4  # CSS: 96 px to an inch


OPENINGS = [
    {"id": "a", "name": "A", "wall": "back", "along": 50, "up": 30, "wide": 41.3, "high": 14.7},
    {"id": "b", "name": "B", "wall": "back", "along": 99, "up": 30, "wide": 30.1, "round": True, "purpose": "cable"},
    {"id": "c", "name": "USB", "wall": "left", "along": 50, "up": 30, "wide": 40, "high": 30, "purpose": "socket"},
]


def builds(catalogue: Catalogue) -> list[Build]:
    found = [camper.build(catalogue, "0" * 64), lighthouse.build(catalogue, "0" * 64), school_fair.build()]
    return [*found, edited(found[2], "assembly.openings", OPENINGS)]


def test_every_hole_of_a_dxf_is_where_it_belongs(catalogue: Catalogue) -> None:
    for build in builds(catalogue):
        for plate in plates(build, catalogue):
            document = ezdxf.read(io.StringIO(as_dxf(plate)))  # type: ignore[attr-defined]
            assert document.units == units.MM
            assert not document.audit().errors
            found = sorted(
                (
                    round(circle.dxf.center.x, 2),
                    round(plate.high - circle.dxf.center.y, 2),
                    round(2 * circle.dxf.radius, 2),
                )
                for circle in document.modelspace().query('CIRCLE[layer=="HOLES"]')
                for at in [circle.dxf.center]
            )
            assert found == sorted(
                (round(hole.x, 2), round(hole.y, 2), round(hole.diameter, 2)) for hole in plate.holes
            )
            (outline,) = document.modelspace().query('LWPOLYLINE[layer=="OUTLINE"]')
            corners = [point[:2] for point in outline.get_points()]
            assert (max(x for x, _y in corners), max(y for _x, y in corners)) == (plate.wide, plate.high)


def test_every_hole_of_an_svg_is_where_it_belongs(catalogue: Catalogue) -> None:
    for build in builds(catalogue):
        for plate in plates(build, catalogue):
            drawing = svgelements.SVG.parse(io.StringIO(as_svg(plate)), ppi=96)
            circles = sorted(
                (each.cx / PX_MM, each.cy / PX_MM, 2 * each.rx / PX_MM)
                for each in (
                    svgelements.Circle(shape) for shape in drawing.elements() if isinstance(shape, svgelements.Circle)
                )
                for each in [each * each.transform if each.transform else each]
            )
            wanted = sorted((hole.x, hole.y, hole.diameter) for hole in plate.holes)
            assert np.allclose(circles, wanted, atol=0.01)


def test_a_back_plate_keeps_wood_between_its_holes_and_to_its_edge(catalogue: Catalogue) -> None:
    for build in builds(catalogue):
        for wide in (60.0, 150.0, 414.0):
            sized = build
            for name, size in zip(("inner_wide", "inner_deep", "inner_high"), (wide, 110.0, 45.0), strict=True):
                sized = edited(sized, f"assembly.{name}", size)
            plate = back_plate(sized, catalogue)
            sockets = [hole for hole in plate.holes if hole.diameter == SOCKET_MM]
            assert [hole.words for hole in sockets] == list(outside(sized))
            assert sum(hole.diameter == SCREW_MM for hole in plate.holes) == 2 * len(sockets)
            for number, hole in enumerate(plate.holes):
                for other in plate.holes[number + 1 :]:
                    apart = ((hole.x - other.x) ** 2 + (hole.y - other.y) ** 2) ** 0.5
                    assert apart - (hole.diameter + other.diameter) / 2 > 1.5
                reach = hole.diameter / 2
                assert reach + 2 < hole.x < plate.wide - reach - 2
                assert reach + 2 < hole.y < plate.high - reach - 2


def test_the_trial_piece_has_every_diameter_once(catalogue: Catalogue) -> None:
    for build in builds(catalogue):
        trial, *others = plates(build, catalogue)
        assert [(hole.diameter, hole.sink) for hole in trial.holes] == sorted(
            {(hole.diameter, hole.sink) for plate in others for hole in plate.holes}
        )
        assert len(steps_of(trial)) == len(trial.holes)


@pytest.mark.skipif(PDFTOPPM is None, reason="pdftoppm of poppler is not installed")
def test_a_printed_page_measures_true(qapp: object, tmp_path: Path) -> None:
    """At 600 dpi: the outline and a hole of a plate on one page, to 0.1 mm; and the ruler of 50 mm."""
    from kyklon.app.widgets.paper import pdf_of

    plate = Plate("p", "Plate", 150.0, 90.0, (Hole(50.0, 40.0, 30.0),))
    (page,) = as_pages(plate)
    file = tmp_path / "page.pdf"
    file.write_bytes(pdf_of(page))
    assert PDFTOPPM is not None
    subprocess.run([PDFTOPPM, "-r", "600", "-gray", "-singlefile", str(file), str(tmp_path / "page")], check=True)
    Image.MAX_IMAGE_PIXELS = None
    dark = np.asarray(Image.open(tmp_path / "page.pgm")) < 128
    assert dark.shape[1] * 25.4 / 600 == pytest.approx(210, abs=0.1)
    assert dark.shape[0] * 25.4 / 600 == pytest.approx(297, abs=0.1)

    def mm(pixels: float) -> float:
        return pixels * 25.4 / 600

    rows = np.flatnonzero(dark[:, : dark.shape[1]].sum(axis=1) > 150 / 25.4 * 600 * 0.9)
    columns = np.flatnonzero(dark.sum(axis=0) > 90 / 25.4 * 600 * 0.9)
    assert mm(columns.max() - columns.min()) == pytest.approx(150.0, abs=0.1 + 0.2)  # the pen is 0.2 mm wide
    assert mm(rows.max() - rows.min()) == pytest.approx(90.0, abs=0.1 + 0.2)
    at = rows.min() + round(35 / 25.4 * 600)  # 5 mm above the hole's middle
    inside = np.flatnonzero(dark[at]) * 25.4 / 600 - mm(columns.min())
    ring = inside[(inside > 20) & (inside < 80)]
    chord = 2 * (15.0**2 - 5.0**2) ** 0.5
    assert ring.max() - ring.min() == pytest.approx(chord, abs=0.1 + 0.2)
    assert (ring.max() + ring.min()) / 2 == pytest.approx(50.0, abs=0.1 + 0.1)


def test_pages_overlap_and_cover_the_whole_plate() -> None:
    plate = Plate("p", "Plate", 414.0, 300.0, ())
    pages = as_pages(plate)
    assert len(pages) == 3 * 2
    assert all("width='210mm' height='297mm'" in page for page in pages)
    assert "column 3 of 3, row 2 of 2" in pages[-1]
    assert all("50 mm: measure before you cut" in page for page in pages)
