"""Pictures on surfaces: read from glTF and OpenUSD, kept in the project, and written again."""

import base64
import io
import json
import struct

import msgspec
import numpy as np
import pytest
from gltf_validator import issues
from msgspec.structs import replace
from pictured import QUARTERS, parts, plate, quarters, wavy
from PIL import Image
from pxr import Gf, Usd, UsdGeom, UsdShade
from usd_validators import validators_find

from kestrav.core.document import edits
from kestrav.core.document.records import Project
from kestrav.core.document.surface_checks import check_finish
from kestrav.core.document.surfaces import Finish, Pictures
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.gltf_export import write_animated
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.usd_export import write_usd
from kestrav.core.finishes.pictures import decoded, drawn, kept, merged_surface, picture_mapped, tangents
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.finishes.textures import roughness
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.rest import rest_poses


def opened(file):
    imported = read_product(file)
    return into_project(Project(name="Test"), imported), dict(imported.meshes), imported


def changed(file, change):
    """The file with its JSON changed."""
    data = file.read_bytes()
    length = struct.unpack_from("<I", data, 12)[0]
    tree = json.loads(data[20 : 20 + length])
    change(tree)
    text = json.dumps(tree).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + length :]
    file.write_bytes(
        struct.pack("<4sII", b"glTF", 2, 20 + len(text) + len(rest))
        + struct.pack("<I4s", len(text), b"JSON")
        + text
        + rest
    )
    return file


def seen(project, meshes, place):
    """The colour of the picture at a place (x, z) of the plate in mm, by its triangles' corners."""
    part = project.parts[-1]
    mesh = meshes[part.geometry]
    corners = apply(rest_poses(project)[-1], mesh.vertices)[mesh.triangles][..., [0, 2]]
    for triangle, uv in zip(corners, mesh.uv, strict=True):
        share = np.linalg.solve(np.vstack([triangle.T, np.ones(3)]), [*place, 1.0])
        if (share > -1e-9).all():
            u, v = share @ uv
            pixels = decoded(project.finishes[0].pictures.colour)
            return tuple(int(x) for x in pixels[int(v % 1 * len(pixels)), int(u % 1 * pixels.shape[1])][:3])
    raise AssertionError(place)


def four(project, meshes):
    """The colours amid the quarters of the plate, from the upper left to the lower right as it is looked at."""
    return tuple(seen(project, meshes, place) for place in ((-250, 750), (250, 750), (-250, 250), (250, 250)))


def near(one, other, by=6):
    return np.abs(np.array(one) - np.array(other)).max() <= by


def test_a_picture_lies_as_it_was_laid_and_stands_in_by_its_mean_elsewhere(tmp_path):
    project, meshes, imported = opened(plate(tmp_path, normalTexture=wavy(), metallicRoughnessTexture=parts()))
    assert not imported.left_out
    assert four(project, meshes) == QUARTERS
    finish = project.finishes[0]
    assert (finish.relief, finish.roughness, finish.metallic) == (1.0, 1.0, 0.0)
    assert decoded(finish.pictures.normal).shape == (64, 64, 3)
    # the mean of light, not of numbers
    light = ((np.array(QUARTERS) / 255 + 0.055) / 1.055) ** 2.4
    mean = 1.055 * light.mean(axis=0) ** (1 / 2.4) - 0.055
    colour = project.parts[-1].colour
    assert near([int(colour[k : k + 2], 16) for k in (1, 3, 5)], 255 * mean, 2)


def test_a_project_keeps_them(tmp_path):
    project, meshes, _ = opened(plate(tmp_path))
    project_file.save(project, meshes, tmp_path / "kept.kestrav")
    again = project_file.load(tmp_path / "kept.kestrav")
    assert again.project.finishes == project.finishes and four(again.project, again.meshes) == QUARTERS
    # another place on the picture is another geometry
    (mesh,) = meshes.values()
    assert replace(mesh, uv=mesh.uv + np.float32(0.25)).hash != mesh.hash


def test_a_mirrored_shape_keeps_its_places(tmp_path):
    _, meshes, _ = opened(plate(tmp_path))
    (mesh,) = meshes.values()
    mirrored = mesh.moved(np.diag([-1.0, 1.0, 1.0, 1.0]))
    for k in range(2):
        for corner, uv in zip(mirrored.vertices[mirrored.triangles[k]], mirrored.uv[k], strict=True):
            same = np.flatnonzero(np.linalg.norm(mesh.vertices - corner * [-1, 1, 1], axis=1) < 1e-6)[0]
            assert np.allclose(uv, mesh.uv[mesh.triangles == same][0])


def test_scaled_turned_and_shifted_places_are_read(tmp_path):
    # KHR_texture_transform: the picture's offset, rotation and scale; half a picture to the right brings the right half to the left
    def shifted(tree):
        tree["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]["extensions"] = {
            "KHR_texture_transform": {"offset": [0.5, 0.0]}
        }

    project, meshes, _ = opened(changed(plate(tmp_path), shifted))
    a, b, c, d = QUARTERS
    assert four(project, meshes) == (b, a, d, c)

    def turned(tree):
        tree["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]["extensions"] = {
            "KHR_texture_transform": {"rotation": np.pi}
        }

    project, meshes, _ = opened(changed(plate(tmp_path), turned))
    assert four(project, meshes) == (d, c, b, a)


def test_a_quarter_turn_of_places_goes_the_way_that_three_js_has_it(tmp_path):
    # three.js 0.187, Matrix3.setUvTransform, by which its GLTFLoader lays pictures: u' = c u + s v, v' = c v - s u, v downwards
    def turned(tree):
        tree["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]["extensions"] = {
            "KHR_texture_transform": {"rotation": np.pi / 2}
        }

    project, meshes, _ = opened(changed(plate(tmp_path), turned))
    a, b, c, d = QUARTERS
    # what is seen at the upper left lies at u' = v, v' = -u: u 0.25, v 0.25 becomes 0.25, 0.75
    assert four(project, meshes) == (c, a, d, b)


@pytest.mark.parametrize(
    "extension",
    [
        [],
        3,
        {"KHR_texture_transform": 3},
        {"KHR_texture_transform": {"scale": [1]}},
        {"KHR_texture_transform": {"texCoord": []}},
    ],
)
def test_a_damaged_placing_costs_the_picture_and_nothing_else(tmp_path, extension):
    def damage(tree):
        tree["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]["extensions"] = extension

    project, meshes, imported = opened(changed(plate(tmp_path), damage))
    assert project.parts[-1].geometry in meshes
    assert extension == [] or any("(colour)" in note for note in imported.left_out)


def test_what_cannot_be_shown_is_told_and_the_rest_is_read(tmp_path):
    def damage(tree):
        view = tree["bufferViews"][tree["images"][0]["bufferView"]]
        view["byteLength"] = 20

    project, _, imported = opened(changed(plate(tmp_path), damage))
    assert any("picture" in note for note in imported.left_out) and project.parts[-1].geometry

    def elsewhere(tree):
        tree["materials"][0]["normalTexture"]["texCoord"] = 3

    project, meshes, imported = opened(changed(plate(tmp_path, normalTexture=wavy()), elsewhere))
    assert any("(normal)" in note for note in imported.left_out)
    assert not project.finishes[0].pictures.normal and four(project, meshes) == QUARTERS


def test_opacity_counts_only_where_the_material_says_so(tmp_path):
    clear = quarters(mode="RGBA")
    clear.putalpha(Image.fromarray(np.where(np.arange(64)[:, None] < 32, 0, 255).astype(np.uint8).repeat(64, 1)))
    project, *_ = opened(plate(tmp_path, baseColorTexture=clear))
    assert decoded(project.finishes[0].pictures.colour).shape[2] == 3
    project, *_ = opened(plate(tmp_path, baseColorTexture=clear, alphaMode="MASK"))
    assert decoded(project.finishes[0].pictures.colour).shape[2] == 4


def test_gltf_gives_them_back_and_the_validator_finds_nothing(tmp_path):
    project, meshes, _ = opened(plate(tmp_path, normalTexture=wavy(), metallicRoughnessTexture=parts()))
    out = tmp_path / "out.glb"
    write_animated(project, meshes, out)
    again, shapes, imported = opened(out)
    assert not imported.left_out and four(again, shapes) == QUARTERS
    one, other = project.finishes[0].pictures, again.finishes[0].pictures
    assert (one.colour, one.normal, one.surface) == (other.colour, other.normal, other.surface)
    assert not issues(out.read_bytes(), tmp_path)["issues"]["messages"]


def test_the_structure_of_a_finish_goes_along_as_pictures(tmp_path):
    project, meshes, _ = opened(plate(tmp_path))
    project = edits.add(project, msgspec.structs.replace(BY_NAME["Oak"], id="finish-9"))
    project = edits.update(project, project.parts[-1].id, finish="finish-9")
    write_animated(project, meshes, tmp_path / "out.glb")
    again, shapes, _ = opened(tmp_path / "out.glb")
    assert again.finishes[0].pictures.normal
    # a metre of plate holds as many sides of the structure as its grain says
    across = np.ptp(shapes[again.parts[-1].geometry].uv[..., 0])
    assert across == pytest.approx(1000.0 / BY_NAME["Oak"].grain)
    # in its own colour, and no metal
    finish, oak = again.finishes[0], BY_NAME["Oak"]
    assert finish.pictures.factor == oak.colour and finish.metallic == 0 and finish.relief == oak.relief
    assert near(decoded(finish.pictures.surface)[..., 1].mean(), 255 * roughness(oak).mean(), 2)
    plain = Finish("finish-1", "Plain")
    assert drawn(plain, "#808080") is plain


def test_one_structure_in_two_colours_is_two_materials_of_the_same_pictures(tmp_path):
    project, meshes, _ = opened(plate(tmp_path))
    (part,) = [p for p in project.parts if p.geometry]
    brushed = msgspec.structs.replace(BY_NAME["Brushed steel"], id="finish-9", colour="")
    project = edits.add(project, brushed, msgspec.structs.replace(part, id="part-9", name="Other", colour="#204060"))
    project = edits.update_parts(
        project, {part.id: {"finish": "finish-9", "colour": "#a08020"}, "part-9": {"finish": "finish-9"}}
    )
    write_animated(project, meshes, tmp_path / "out.glb")
    again, _, _ = opened(tmp_path / "out.glb")
    assert {f.pictures.factor for f in again.finishes} == {"#a08020", "#204060"}
    assert len({f.pictures.colour for f in again.finishes}) == 1


@pytest.mark.parametrize("ending", [".usda", ".usdc", ".usdz"])
def test_openusd_gives_them_back_and_its_validators_find_nothing(tmp_path, ending):
    project, meshes, _ = opened(
        plate(tmp_path, normalTexture=wavy(), metallicRoughnessTexture=parts(), metallicFactor=0.5)
    )
    out = tmp_path / f"scene{ending}"
    write_usd(project, meshes, out)
    assert (tmp_path / "scene-pictures").is_dir() == (ending != ".usdz")
    stage = Usd.Stage.Open(str(out))
    assert not validators_find(stage)
    # by OpenUSD's own library: the picture's file is there, and a corner is where it was
    mesh = next(UsdGeom.Mesh(p) for p in stage.Traverse(Usd.TraverseInstanceProxies()) if p.IsA(UsdGeom.Mesh))
    places = np.array(UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st").Get())
    points = np.array(mesh.GetPointsAttr().Get())[np.array(mesh.GetFaceVertexIndicesAttr().Get())]
    matrix = UsdGeom.Imageable(mesh).ComputeLocalToWorldTransform(Usd.TimeCode.Default())
    points = np.array([matrix.Transform(Gf.Vec3d(*map(float, point))) for point in points])
    assert np.allclose(places, (points[:, [0, 2]] + [500, 0]) / 1000, atol=1e-5)
    files = [
        UsdShade.Shader(p).GetInput("file").Get().resolvedPath
        for p in stage.TraverseAll()
        if p.IsA(UsdShade.Shader) and UsdShade.Shader(p).GetIdAttr().Get() == "UsdUVTexture"
    ]
    assert len(files) == 3 and all(files)
    again, shapes, imported = opened(out)
    assert not imported.left_out and four(again, shapes) == QUARTERS
    finish = again.finishes[0]
    assert finish.pictures.normal == project.finishes[0].pictures.normal
    assert (finish.metallic, finish.roughness, finish.relief) == (0.5, 1.0, 1.0)


def test_large_ones_are_made_smaller_and_odd_ones_are_kept_as_png(tmp_path, random):
    def file_of(picture, kind, **how):
        held = io.BytesIO()
        picture.save(held, kind, **how)
        return held.getvalue()

    small = file_of(quarters(), "PNG")
    assert base64.b64decode(kept(small)) == small
    large = Image.fromarray(random.integers(0, 255, (1500, 3000, 3)).astype(np.uint8))
    assert decoded(kept(file_of(large, "PNG"))).shape == (1024, 2048, 3)
    assert decoded(kept(file_of(quarters(), "WEBP", lossless=True))).shape == (64, 64, 3)
    both = merged_surface((small, 0), None, (file_of(parts(32), "PNG"), 2))
    pixels = decoded(both)
    assert pixels.shape == (64, 64, 3) and (pixels[..., 1] == 255).all() and pixels[0, 0, 0] == QUARTERS[2][0]


def test_a_damaged_picture_in_a_project_is_refused():
    good = kept(_png())
    check_finish(Finish("finish-1", "Good", pictures=Pictures(good)))
    # a few bytes that say that they are 30,000 pixels a side
    bomb = bytearray(_png())
    bomb[16:24] = struct.pack(">II", 30_000, 30_000)
    with pytest.raises(ValueError, match="picture of it"):
        kept(bytes(bomb))
    for bad in (
        base64.b64encode(bomb).decode(),
        "not base64!",
        base64.b64encode(b"GIF89a").decode(),
        good[: len(good) // 20],
    ):
        with pytest.raises(BadInput, match="colour picture"):
            check_finish(Finish("finish-1", "Bad", pictures=Pictures(bad)))


def _png():
    held = io.BytesIO()
    quarters().save(held, "PNG")
    return held.getvalue()


def test_a_surface_is_cut_where_its_picture_is_and_u_grows_along(random):
    # a picture laid around a cylinder: u goes once around, v up; seams have corners of their own
    count = 24
    angles = np.linspace(0, 2 * np.pi, count, endpoint=False)
    points = np.array([[50 * np.cos(a), 50 * np.sin(a), z] for z in (0.0, 80.0) for a in angles])
    triangles, uv = [], []
    for k in range(count):
        n = (k + 1) % count
        a, b = k / count, (k + 1) / count
        triangles += [[k, n, n + count], [k, n + count, k + count]]
        uv += [[[a, 0], [b, 0], [b, 1]], [[a, 0], [b, 1], [a, 1]]]
    mapped = picture_mapped(points, np.array(triangles), np.array(uv))
    assert len(mapped.source) == len(points) + 2  # the two corners of the seam
    assert np.allclose(mapped.uv[mapped.triangles], uv)
    around = np.column_stack([-points[mapped.source, 1], points[mapped.source, 0], 0 * mapped.source]) / 50
    # at a seam the direction is that of one facet alone
    assert np.einsum("ij,ij->i", mapped.along, around).min() > np.cos(np.pi / count) - 1e-9


def test_tangents_lie_along_the_surface_and_tell_mirrored_pictures():
    points, triangles = np.array([[0.0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]]), np.array([[0, 1, 2], [0, 2, 3]])
    uv = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])
    normals = np.tile([0.0, -1.0, 0.0], (4, 1))
    for flip in (1, -1):
        mapped = picture_mapped(points, triangles, (uv * [flip, 1])[triangles])
        found = tangents(mapped, normals)
        assert np.allclose(found[:, :3], [flip, 0, 0]) and np.allclose(found[:, 3], flip)
        # with that the third direction is upwards on the picture
        assert np.allclose(np.cross(normals, found[:, :3]) * found[:, 3:], [0, 0, 1])


def test_a_corner_without_a_normal_has_a_tangent_all_the_same():
    points = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
    uv = np.array([[0.0, 0], [1, 0], [0, 1]])
    mapped = picture_mapped(points, np.array([[0, 1, 2]]), uv)
    normals = np.array([[0.0, 0, 1], [0, 0, 0], [1, 0, 0]])
    along = tangents(mapped, normals[mapped.source])
    assert np.isfinite(along).all()
    assert np.linalg.norm(along[:, :3], axis=1) == pytest.approx(1.0)
