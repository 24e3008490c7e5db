"""What of a STEP file could not be read is told by the name of its product, and the rest comes in."""

import re

import pytest
from shapes import DEMO

from kestrav.core.files.product_import import read_product
from kestrav.core.files.step_faces import not_read

TROLLEY = (DEMO.parent / "trolley.step").read_text()
SOLIDS = re.findall(r"MANIFOLD_SOLID_BREP\('',#\d+\)", TROLLEY)


@pytest.mark.parametrize("solid", [0, len(SOLIDS) - 1])
@pytest.mark.parametrize("instead", ["MANIFOLD_SOLID_BREP('',#999999)", "MANIFOLD_SOLID_BREP('',#1)"])
def test_a_damaged_solid_is_told_by_its_products_name(solid, instead, tmp_path):
    file = tmp_path / "damaged.step"
    file.write_text(TROLLEY.replace(SOLIDS[solid], instead))
    sound, damaged = read_product(DEMO.parent / "trolley.step"), read_product(file)
    gone = {p.name for p in sound.parts if p.geometry} - {p.name for p in damaged.parts if p.geometry}
    assert len(gone) == 1 and not sound.left_out
    assert damaged.left_out == [f"“{gone.pop()}”: its shape could not be read"]


def test_a_face_that_is_missing_is_told_of_its_part(tmp_path):
    # the first face of the first shell
    face = re.search(r"#(\d+) = ADVANCED_FACE\('',\(#(\d+)", TROLLEY)
    file = tmp_path / "damaged.step"
    file.write_text(TROLLEY.replace(face[0], f"#{face[1]} = ADVANCED_FACE('',(#999999"))
    told = read_product(file).left_out
    assert len(told) == 1 and re.fullmatch("“.+”: not all of its \\d+ faces could be read", told[0]), told


@pytest.mark.parametrize("name", ["plant-room", "cabinet", "jib-hoist", "swing-gate"])
def test_nothing_is_told_of_what_is_whole(name):
    assert not read_product(DEMO.parent / f"{name}.step").left_out


def test_where_the_faces_that_were_read_are_not_known_nothing_is_told():
    assert not not_read(TROLLEY.encode(), [3, None], [])
    assert len(not_read(TROLLEY.encode(), [3], [])) == 6


def test_a_quote_that_is_missing_does_not_keep_anybody_waiting():
    # with every quote a string could end or go on: these would be 2 ** 4000 ways to read the file
    text = "#1=PRODUCT('a" + "''b" * 4000 + "\n#2=ADVANCED_FACE('',());\n"
    assert not_read((TROLLEY + text).encode(), [1], [])
