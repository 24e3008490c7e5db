"""Teeth read off solids."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, gear_mesh, rack_mesh

from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.teeth import rack_tooth, read_teeth

Z, X = np.array([0.0, 0, 1]), np.array([1.0, 0, 0])


@pytest.mark.parametrize(("teeth", "module", "turned"), [(12, 3.0, 0.0), (23, 2.0, 0.05), (61, 1.25, 0.02)])
def test_a_gear_tells_its_teeth(teeth, module, turned):
    found = read_teeth(gear_mesh(teeth, module, turned), (0, 0, 0), Z, X)
    assert found.number == teeth and not found.inward
    assert found.high == pytest.approx(0.5 * module * (teeth + 2), abs=0.02)
    off = (found.middle - turned) * teeth / (2 * np.pi)
    assert off - round(off) == pytest.approx(0.0, abs=2e-3)  # of a tooth


def test_a_ring_tells_its_teeth_inside():
    found = read_teeth(gear_mesh(40, 2.0, 0.03, ring=True), (0, 0, 0), Z, X)
    assert found.number == 40 and found.inward
    off = (found.middle - 0.03) * 40 / (2 * np.pi)
    assert off - round(off) == pytest.approx(0.0, abs=2e-3)


def test_what_has_no_teeth_tells_none():
    drum = trimesh.creation.cylinder(30.0, 10.0, sections=64)
    assert read_teeth(mesh(drum.vertices, drum.faces), (0, 0, 0), Z, X) is None
    assert read_teeth(box_mesh(20, 20, 20), (0, 0, 0), Z, X) is None  # four corners are no teeth
    assert read_teeth(gear_mesh(20, 2.0), (500, 0, 0), Z, X) is None  # cut, but not about its axis


def test_a_rack_tells_where_its_teeth_are():
    pitch = np.pi * 2.0
    found = rack_tooth(rack_mesh(9, 2.0, 1.3), (0, 0, 0), X, Z, pitch)
    assert (found - 1.3) / pitch - round((found - 1.3) / pitch) == pytest.approx(0.0, abs=1e-6)
    assert rack_tooth(box_mesh(50, 5, 5), (0, 0, 0), X, Z, pitch) is None
