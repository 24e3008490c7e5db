"""OpenUSD out and in, checked by OpenUSD's own library and its validators, and against glTF."""

from pathlib import Path

import msgspec
import numpy as np
import pytest
import trimesh
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade
from scipy.spatial.transform import Rotation
from usd_validators import validators_find

from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Colourway,
    Focus,
    GivenFinish,
    KeyPose,
    Light,
    LightKey,
    Part,
    Placement,
    PoseTrack,
    Project,
)
from kestrav.core.document.surfaces import Finish
from kestrav.core.errors import BadInput
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.usd_export import OWN, VARIANTS, write_usd
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import span


def written(project, meshes, target, **options):
    write_usd(project, meshes, target, **options)
    stage = Usd.Stage.Open(str(target))
    assert stage and not validators_find(stage)
    return stage


def by_id(stage):
    """Prims of parts, by the ids that these have in Kestrav."""
    return {
        prim.GetAttribute("kestrav:id").Get(): prim
        for prim in stage.Traverse()
        if prim.GetAttribute("kestrav:id").IsValid()
    }


def pose(prim, code):
    return np.array(UsdGeom.Imageable(prim).ComputeLocalToWorldTransform(Usd.TimeCode(code))).T


def off(project, stage, moments):
    """How far in mm and degrees parts are off at most at moments, as OpenUSD itself evaluates them."""
    prims, poses = by_id(stage), world_poses(project, moments)
    far = turned = 0.0
    for k, part in enumerate(project.parts):
        for n, moment in enumerate(moments):
            there = pose(prims[part.id], moment * project.settings.fps)
            far = max(far, float(np.linalg.norm(there[:3, 3] - poses[n, k, :3, 3])))
            turned = max(
                turned, float(np.degrees(Rotation.from_matrix(there[:3, :3].T @ poses[n, k, :3, :3]).magnitude()))
            )
    return far, turned


@pytest.mark.parametrize("ending", [".usdc", ".usda", ".usdz"])
def test_poses_are_those_of_the_project_as_openusd_evaluates_them(turning, tmp_path, random, ending):
    project, meshes = turning
    stage = written(project, meshes, tmp_path / f"scene{ending}")
    far, turned = off(project, stage, np.sort(random.uniform(0, span(project), 200)))
    assert far <= 0.05 and turned <= 0.05
    assert UsdGeom.GetStageMetersPerUnit(stage) == pytest.approx(0.001)
    assert UsdGeom.GetStageUpAxis(stage) == "Z"
    assert stage.GetTimeCodesPerSecond() == project.settings.fps
    assert stage.GetEndTimeCode() == pytest.approx(span(project) * project.settings.fps)


def test_what_jumps_is_held_until_it_does(passing, tmp_path):
    stands = [
        PoseTrack(f"pose-track-{k}", "Stands", "part-2", (KeyPose(0, Placement((x, 0, 0))),), at)
        for k, x, at in ((0, 90, 0.0), (1, 500, 1.0))
    ]
    project = edits.add(passing.project, *stands)
    stage = written(project, passing.meshes, tmp_path / "scene.usda")
    prim = by_id(stage)["part-2"]
    places = [float(pose(prim, t * 20.0)[0, 3]) for t in (0.5, 0.999, 1.0, 1.5)]
    assert places == pytest.approx([90, 90, 500, 500])


def test_cameras_have_their_lens(turning, tmp_path):
    project, meshes = turning
    camera = project.cameras[0]
    project = edits.update(project, camera.id, f_number=2.8, focus=Focus(point=(0.0, 0.0, 0.0)), keeps="lens", size=0.4)
    stage = written(project, meshes, tmp_path / "scene.usdc")
    found = next(
        UsdGeom.Camera(p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera) and p.GetDisplayName() == camera.name
    )
    camera = project.cameras[0]
    for time in (0.0, 0.7, 1.9):
        frame = found.GetCamera(time * 20.0)
        seen = views(project, meshes, camera, [time], aspect=16 / 9)
        # OpenUSD's own camera works out the angle of view, in degrees
        told = frame.GetFieldOfView(Gf.Camera.FOVVertical)
        assert told == pytest.approx(np.degrees(seen.vertical_angle(camera, 16 / 9, 1.0)[0]), abs=0.05)
        assert frame.fStop == pytest.approx(2.8)
        away = float((np.zeros(3) - seen.position[0]) @ seen.forward[0])
        assert frame.focusDistance == pytest.approx(away, rel=2e-3)
        ahead = pose(found.GetPrim(), time * 20.0)[:3, :3] @ [0, 0, -1]
        assert ahead @ seen.forward[0] > 1 - 1e-6


def test_lights_are_told_in_nits(passing, tmp_path):
    lights = (
        Light(
            "light-1",
            "Bulb",
            "point",
            strength=800.0,
            keys=(LightKey(0.0, 800.0, "#ffffff"), LightKey(1.0, 0.0, "#ffffff")),
        ),
        Light("light-2", "Panel", "area", strength=900.0, size=(600.0, 500.0)),
        Light("light-3", "Sun", "sun", strength=10_000.0),
        Light("light-4", "Spot", "spot", strength=500.0, cone=40.0),
    )
    stage = written(edits.add(passing.project, *lights), passing.meshes, tmp_path / "scene.usda")
    found = {p.GetDisplayName(): p for p in stage.Traverse() if p.HasAPI(UsdLux.LightAPI)}
    # luminous intensity is luminance by the area that is seen: a ball's disc, a panel's face
    bulb = UsdLux.SphereLight(found["Bulb"])
    disc = np.pi * (bulb.GetRadiusAttr().Get() / 1000) ** 2
    assert bulb.GetIntensityAttr().Get(0.0) * disc == pytest.approx(800.0)
    assert bulb.GetIntensityAttr().Get(20.0) == 0.0
    panel = UsdLux.RectLight(found["Panel"])
    assert panel.GetIntensityAttr().Get() * 0.6 * 0.5 == pytest.approx(900.0)
    # what a disc of the angular radius a gives a surface that faces it: E = π L sin² a
    sun = UsdLux.DistantLight(found["Sun"])
    half = np.radians(sun.GetAngleAttr().Get() / 2)
    assert np.pi * sun.GetIntensityAttr().Get() * np.sin(half) ** 2 == pytest.approx(10_000.0, rel=1e-4)
    assert UsdLux.ShapingAPI(found["Spot"]).GetShapingConeAngleAttr().Get() == pytest.approx(20.0)
    assert found["Surroundings"].IsA(UsdLux.DomeLight)


@pytest.fixture
def dressed(passing):
    """Two equal posts, a finish, and a colourway."""
    project = passing.project
    post = project.parts[1]
    project = edits.add(
        project, msgspec.structs.replace(post, id="part-4", name="Post", placement=Placement((60.0, 40.0, 0.0)))
    )
    project = edits.add(
        project,
        Finish("finish-1", "Brass", "#c9a227", metallic=1.0, roughness=0.3),
        Finish("finish-2", "Lacquer", "#aa2222", coat=0.8),
        Colourway("colourway-1", "Red <b>", (GivenFinish("part-2", "finish-2"),)),
    )
    return edits.update(project, "part-2", finish="finish-1"), passing.meshes


def bound(stage, part):
    """The preview surface that a part's shape is bound to, as OpenUSD resolves it."""
    shape = by_id(stage)[part].GetChild("Shape")
    mesh = next(p for p in Usd.PrimRange(shape, Usd.TraverseInstanceProxies()) if p.IsA(UsdGeom.Mesh))
    material, _ = UsdShade.MaterialBindingAPI(mesh).ComputeBoundMaterial()
    return material.ComputeSurfaceSource()[0]


def test_instances_share_their_shape_and_colourways_are_variants(dressed, tmp_path):
    stage = written(*dressed, tmp_path / "scene.usdc")
    first, second = (by_id(stage)[part].GetChild("Shape") for part in ("part-2", "part-4"))
    assert first.IsInstance() and first.GetPrototype() == second.GetPrototype()
    assert bound(stage, "part-2").GetInput("metallic").Get() == pytest.approx(1.0)
    variants = stage.GetDefaultPrim().GetVariantSets().GetVariantSet(VARIANTS)
    assert variants.GetVariantSelection() == OWN and len(variants.GetVariantNames()) == 2
    variants.SetVariantSelection(next(name for name in variants.GetVariantNames() if name != OWN))
    shader = bound(stage, "part-2")
    assert shader.GetInput("clearcoat").Get() == pytest.approx(0.8)
    assert shader.GetInput("diffuseColor").Get()[0] == pytest.approx(0.402, abs=0.002)  # #aa as linear light


def test_what_is_written_is_read_again_with_its_motion(turning, tmp_path, random):
    project, meshes = turning
    target = tmp_path / "scene.usdz"
    write_usd(project, meshes, target, tolerance=0.01)
    imported = read_product(target)
    assert not imported.left_out and imported.declared == "OpenUSD, its unit 1 mm"
    again = into_project(Project(), imported)
    row = {part.name: k for k, part in enumerate(again.parts)}
    moments = np.sort(random.uniform(0, span(project), 60))
    mine, theirs = world_poses(project, moments), world_poses(again, moments)
    for k, part in enumerate(project.parts):
        other = again.parts[row[part.name]]
        assert other.geometry is not None
        # a mesh may be brought to its own origin: what stands where is compared
        corner = meshes[part.geometry].bounds[1]
        a = np.einsum("nij,j->ni", mine[:, k, :3, :3], corner) + mine[:, k, :3, 3]
        b = np.einsum("nij,j->ni", theirs[:, row[part.name], :3, :3], corner) + theirs[:, row[part.name], :3, 3]
        assert np.abs(a - b).max() < 0.02
    assert {again.parts[row["Cube"]].id, again.parts[row["Post"]].id} == {t.rider for t in again.pose_tracks}


def test_a_foreign_scene_is_read_with_its_unit_axis_instances_and_looks(tmp_path):
    stage = Usd.Stage.CreateNew(str(tmp_path / "foreign.usda"))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(24)
    stage.SetStartTimeCode(101)
    stage.SetEndTimeCode(149)
    root = UsdGeom.Xform.Define(stage, "/Rig")
    block = UsdGeom.Mesh.Define(stage, "/Rig/Block")
    body = trimesh.creation.box((10, 20, 30))
    block.CreatePointsAttr([Gf.Vec3f(*p) for p in body.vertices.tolist()])
    block.CreateFaceVertexCountsAttr([3] * 12)
    block.CreateFaceVertexIndicesAttr(body.faces.reshape(-1).tolist())
    move = UsdGeom.Xformable(root).AddTranslateOp()
    move.Set(Gf.Vec3d(0, 5, 0), 101)
    move.Set(Gf.Vec3d(0, 5, 48), 149)
    ball = UsdGeom.Sphere.Define(stage, "/Library/Ball")
    ball.CreateRadiusAttr(2.0)
    stage.GetPrimAtPath("/Library").SetSpecifier(Sdf.SpecifierClass)  # a library is not placed itself
    placer = UsdGeom.PointInstancer.Define(stage, "/Balls")
    placer.CreatePrototypesRel().AddTarget("/Balls/Ball")
    UsdGeom.Sphere.Define(stage, "/Balls/Ball").CreateRadiusAttr(2.0)
    placer.CreateProtoIndicesAttr([0, 0, 0])
    placer.CreatePositionsAttr([(0, 0, 0), (10, 0, 0), (20, 0, 0)])
    material = UsdShade.Material.Define(stage, "/Looks/Copper")
    shader = UsdShade.Shader.Define(stage, "/Looks/Copper/S")
    shader.CreateIdAttr("UsdPreviewSurface")
    shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set((1.0, 0.25, 0.0))
    shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(1.0)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(block.GetPrim()).Bind(material)
    stage.GetRootLayer().Save()
    imported = read_product(tmp_path / "foreign.usda")
    project = into_project(Project(), imported)
    named = {part.name: part for part in project.parts}
    assert imported.declared == "OpenUSD, its unit 10 mm" and imported.up == "y"
    solid = imported.meshes[named["Rig"].geometry]
    assert sorted(np.ptp(solid.bounds, axis=0)) == pytest.approx([100, 200, 300])
    assert named["Rig"].colour == "#ff8900" and project.finishes[0].metallic == 1.0
    assert sum(part.geometry is not None and part.name.startswith("Ball") for part in project.parts) == 3
    (track,) = project.pose_tracks
    assert [key.time for key in track.keys] == pytest.approx([0.0, 2.0])
    # Y up becomes Z up: what goes along +Z of the file comes towards one along -Y
    assert track.keys[1].placement.position == pytest.approx((0.0, -480.0, 50.0))


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("cut.usdc", b"PXR-USDC" + bytes(60), "cannot be read"),
        ("text.usda", b'#usda 1.0\ndef Mesh "A" {', "cannot be read"),
        ("renamed.usdc", b"ISO-10303-21;\n", "is not an OpenUSD file"),
        ("empty.usda", b"#usda 1.0\n", "no solid or surface"),
    ],
)
def test_a_damaged_scene_is_one_sentence(tmp_path, name, content, told):
    file = tmp_path / name
    file.write_bytes(content)
    with pytest.raises(BadInput, match=told):
        read_product(file)


def test_a_scene_does_not_reach_outside_its_folder(tmp_path):
    inner = tmp_path / "inner"
    inner.mkdir()
    outside = Usd.Stage.CreateNew(str(tmp_path / "secret.usda"))
    UsdGeom.Sphere.Define(outside, "/Ball")
    outside.SetDefaultPrim(outside.GetPrimAtPath("/Ball"))
    outside.GetRootLayer().Save()
    stage = Usd.Stage.CreateNew(str(inner / "scene.usda"))
    stage.DefinePrim("/A").GetReferences().AddReference("../secret.usda")
    stage.GetRootLayer().Save()
    with pytest.raises(BadInput, match="outside its own folder"):
        read_product(inner / "scene.usda")


def test_another_ending_and_a_file_that_is_there_are_refused(passing, tmp_path):
    with pytest.raises(BadInput, match=r"give \.usdc, \.usda, \.usdz"):
        write_usd(passing.project, passing.meshes, tmp_path / "scene.obj")
    Path(tmp_path / "scene.usda").write_text("mine")
    with pytest.raises(BadInput, match="there already"):
        write_usd(passing.project, passing.meshes, tmp_path / "scene.usda")


def test_names_that_no_prim_can_have_are_kept_as_display_names(passing, tmp_path):
    project = edits.update(passing.project, "part-1", name="3 × <script> Würfel/1")
    project = edits.update(project, "part-2", name="3 × <script> Würfel 1")
    stage = written(project, passing.meshes, tmp_path / "scene.usda")
    prims = by_id(stage)
    assert prims["part-1"].GetDisplayName() == "3 × <script> Würfel/1"
    assert prims["part-1"].GetPath() != prims["part-2"].GetPath()


def test_part_record_is_not_needed_for_an_empty_project(tmp_path):
    stage = written(Project("Empty", parts=(Part("part-1", "Nothing"),)), {}, tmp_path / "empty.usda")
    assert stage.GetDefaultPrim().GetDisplayName() == "Empty"


def test_a_picture_on_a_surface_stands_for_its_mean_light(tmp_path):
    Image.fromarray(np.tile(np.array([[[0, 0, 0], [255, 255, 255]]], np.uint8), (8, 4, 1))).save(tmp_path / "check.png")
    stage = Usd.Stage.CreateNew(str(tmp_path / "textured.usda"))
    ball = UsdGeom.Sphere.Define(stage, "/Ball")
    material = UsdShade.Material.Define(stage, "/Paint")
    shader = UsdShade.Shader.Define(stage, "/Paint/Surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    texture = UsdShade.Shader.Define(stage, "/Paint/Picture")
    texture.CreateIdAttr("UsdUVTexture")
    texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath("./check.png"))
    texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    colour = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
    colour.ConnectToSource(texture.ConnectableAPI(), "rgb")
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(ball.GetPrim()).Bind(material)
    stage.GetRootLayer().Save()
    imported = read_product(tmp_path / "textured.usda")
    assert imported.parts[0].colour == "#bcbcbc" and any("mean colour" in note for note in imported.left_out)
