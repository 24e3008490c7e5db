"""OpenUSD: parts with hierarchy, instances and finishes, cameras and lights, and their motion in as few time samples as tell it.

Reference: OpenUSD 26.11, schemas UsdGeom, UsdShade (UsdPreviewSurface), UsdLux. Millimetres, Z up, as in Kestrav; time codes are the project's
frames. Between samples USD goes straight, and turns by spherical interpolation, as glTF does.
"""

from __future__ import annotations

import hashlib
import re
import tempfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdUtils, Vt

import kestrav
from kestrav.core.camera.lens import frame_on_sensor
from kestrav.core.colours import linear
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Finish, Light, Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.files.gltf_export import Written
from kestrav.core.files.motion_keys import Keys, Samples, place_keys, samples, turn_keys
from kestrav.core.files.tracks import TOLERANCE, CameraTrack, Exactness, Track, camera_tracks, part_tracks, quaternions
from kestrav.core.files.writing import beside, refuse_existing, write_whole
from kestrav.core.finishes.applied import PAINT, finishes_of, laid_on
from kestrav.core.finishes.box_mapping import box_mapped
from kestrav.core.finishes.pictures import decoded, drawn, file_of
from kestrav.core.geometry.meshes import Mesh, smooth_surface
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.poses import light_places
from kestrav.core.kinematics.runs import span
from kestrav.core.light.environments import directions, solid_angles
from kestrav.core.light.exposure import WHITE
from kestrav.core.light.setups import soft_boxes, surround
from kestrav.core.parts.arranging import parents_first
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

ENDINGS = (".usdc", ".usda", ".usdz")
_NEAR, _FAR = 10.0, 1e6  # mm
_BULB = 0.03  # m, the radius of the ball that stands for a point light
_WORLD, _SHAPES, _FINISHES = "/World", "/World/Shapes", "/World/Finishes"
_OWN_PLACES, _BOX_PLACES = "st", "st_mm"  # where surfaces lie on pictures, and on a structure in mm
VARIANTS = "colourway"
OWN = "own_finishes"  # the variant in which parts have their own finishes


def write_usd(
    project: Project,
    meshes: Mapping[str, Mesh],
    target: Path,
    *,
    overwrite: bool = False,
    tolerance: float = TOLERANCE,
) -> Written:
    """Write a project with its motion as ``.usdc``, ``.usda`` or ``.usdz``, by the target's ending; no point of a part is off by more than
    ``tolerance`` in mm between samples. Raises BadInput for another ending, or a file that is there or cannot be written."""
    ending = target.suffix.lower()
    if ending not in ENDINGS:
        raise BadInput(f"“{target}” has an ending that is not known: give {', '.join(ENDINGS)}")
    refuse_existing(target, force=overwrite)
    exact = Exactness(tolerance)
    with tempfile.TemporaryDirectory(prefix="kestrav-") as room, beside(target) as part:
        # the writer goes by the ending, and an archive is made of a file
        scene_file = Path(room) / f"scene{'.usdc' if ending == '.usdz' else ending}"
        # what lies in an archive is in it; beside a scene its pictures have a folder of their own
        folder = "pictures" if ending == ".usdz" else f"{target.stem}-pictures"
        scene = _Scene(project, meshes, exact, folder)
        written = scene.write(scene_file)
        if ending == ".usdz":
            archive = Path(room) / "scene.usdz"
            if not UsdUtils.CreateNewUsdzPackage(str(scene_file), str(archive)):
                raise BadInput(f"“{target}” cannot be written: OpenUSD could not pack its archive")
            scene_file = archive
        elif scene.pictures:
            _write_pictures(target.parent / folder, scene.pictures)
        data = scene_file.read_bytes()
        part.write_bytes(data)
    return Written(len(data), written.moving, written.keys, written.samples)


def _write_pictures(folder: Path, pictures: Mapping[str, bytes]) -> None:
    """Write pictures, which are named by their content, so that one that is there already is the same."""
    try:
        folder.mkdir(exist_ok=True)
    except OSError as fault:
        raise BadInput(f"the folder “{folder}” for the scene's pictures cannot be made: {fault.strerror}") from fault
    for name, data in pictures.items():
        write_whole(folder / name, data)


class _Names:
    """Names of prims: valid, and unlike each other under one prim. What a thing is called stays as its display name."""

    def __init__(self) -> None:
        self._taken: set[str] = set()

    def path(self, above: str, name: str) -> str:
        """A free path under another."""
        plain = re.sub(r"\W", "_", name, flags=re.ASCII) or "part"
        if plain[0].isdigit():
            plain = f"_{plain}"
        tried, number = plain, 1
        while f"{above}/{tried}" in self._taken:
            number += 1
            tried = f"{plain}_{number}"
        self._taken.add(f"{above}/{tried}")
        return f"{above}/{tried}"


class _Scene:
    """A stage being made."""

    def __init__(self, project: Project, meshes: Mapping[str, Mesh], exact: Exactness, folder: str) -> None:
        self.project, self.meshes, self.exact, self.folder = project, meshes, exact, folder
        self.pictures: dict[str, bytes] = {}  # by their names in the folder
        self.stage = Usd.Stage.CreateInMemory()
        self.names = _Names()
        self.fps = project.settings.fps
        UsdGeom.SetStageUpAxis(self.stage, UsdGeom.Tokens.z)
        UsdGeom.SetStageMetersPerUnit(self.stage, 0.001)
        self.stage.SetTimeCodesPerSecond(self.fps)
        self.stage.SetFramesPerSecond(self.fps)
        self.stage.SetStartTimeCode(0.0)
        self.stage.SetEndTimeCode(span(project) * self.fps)
        self.stage.SetMetadata("comment", f"Written by Kestrav {kestrav.__version__}")
        world = UsdGeom.Xform.Define(self.stage, _WORLD).GetPrim()
        Usd.ModelAPI(world).SetKind("assembly")
        self._call(world, project.name)
        self.stage.SetDefaultPrim(world)
        self.stage.CreateClassPrim(_SHAPES)
        self.names.path(_WORLD, "Shapes")
        self.names.path(_WORLD, "Finishes")
        UsdGeom.Scope.Define(self.stage, _FINISHES)
        colourways = ("", *(colourway.id for colourway in project.colourways))
        self.structured = any(
            finish.texture for colourway in colourways for finish in finishes_of(project, colourway).values()
        )
        self.moving = self.keys = self.samples = 0

    def write(self, file: Path) -> Written:
        """Put all of the project in, and write it."""
        sampled = samples(self.project)
        paths = self._parts(sampled)
        self._materials(paths)
        for camera in camera_tracks(self.project, self.meshes, sampled, self.exact):
            self._camera(camera)
        self._lights(sampled)
        self.stage.GetRootLayer().Export(str(file))
        if self.pictures:
            _write_pictures(file.parent / self.folder, self.pictures)
        return Written(0, self.moving, self.keys, self.samples)

    # parts

    def _parts(self, sampled: Samples) -> dict[str, list[tuple[str, str]]]:
        """Make prims of the parts; returns for each with geometry, by its id, the paths of what takes a finish and the colour there."""
        project, shown = self.project, shown_parts(self.project)
        tracks = part_tracks(project, self.meshes, sampled, self.exact)
        place: dict[str, str] = {}
        shapes: dict[object, tuple[str, tuple[str, ...]]] = {}
        coloured: dict[str, list[tuple[str, str]]] = {}
        of = dict(zip((part.id for part in project.parts), tracks, strict=True))
        for part in parents_first(project.parts):
            path = self.names.path(_WORLD if part.parent is None else place[part.parent], part.name)
            place[part.id] = path
            node = UsdGeom.Xform.Define(self.stage, path)
            self._call(node.GetPrim(), part.name)
            node.GetPrim().CreateAttribute("kestrav:id", Sdf.ValueTypeNames.String, True).Set(part.id)
            self._move(node, of[part.id])
            if part.id not in shown:
                node.MakeInvisible()
            if part.geometry is not None:
                coloured[part.id] = self._shape(part, path, shapes)
        return coloured

    def _shape(self, part: Part, path: str, shapes: dict[object, tuple[str, tuple[str, ...]]]) -> list[tuple[str, str]]:
        """Place a part's shape, which is made once for all parts that share it."""
        key = part.geometry, part.scale
        if key not in shapes:
            shapes[key] = self._made_shape(solid_mesh(self.meshes, part), part.name)
        shape, tints = shapes[key]
        prim = self.stage.DefinePrim(f"{path}/Shape", "Xform")
        self.names.path(path, "Shape")
        prim.GetReferences().AddInternalReference(shape)
        if not tints:
            prim.SetInstanceable(True)
            return [(f"{path}/Shape", part.colour)]
        # what is coloured apart has finishes of its own, which an instance cannot
        return [(f"{path}/Shape/Surface/Colour_{k}", tint or part.colour) for k, tint in enumerate(tints)]

    def _made_shape(self, mesh: Mesh, name: str) -> tuple[str, tuple[str, ...]]:
        """A shape's path, smooth within each CAD face and sharp between them, and its colours where these are apart."""
        path = self.names.path(_SHAPES, name)
        UsdGeom.Xform.Define(self.stage, path)
        points, normals, triangles = smooth_surface(mesh, np.ones(len(mesh.triangles), bool))
        prim = UsdGeom.Mesh.Define(self.stage, f"{path}/Surface")
        prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
        prim.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(normals.astype(np.float32)))
        prim.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
        prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(triangles), 3, np.int32)))
        prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(triangles.reshape(-1).astype(np.int32)))
        prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        self._places(prim, mesh, points, triangles)
        low, high = points.min(axis=0), points.max(axis=0)
        prim.CreateExtentAttr([Gf.Vec3f(*map(float, low)), Gf.Vec3f(*map(float, high))])
        if mesh.tint_of is None:
            return path, ()
        tints = []
        for k, tint in enumerate(np.unique(mesh.tint_of)):
            UsdGeom.Subset.CreateGeomSubset(
                prim,
                f"Colour_{k}",
                UsdGeom.Tokens.face,
                Vt.IntArray.FromNumpy(np.flatnonzero(mesh.tint_of == tint).astype(np.int32)),
                UsdShade.Tokens.materialBind,
                UsdGeom.Tokens.partition,
            )
            tints.append(mesh.tints[tint])
        return path, tuple(tints)

    def _places(self, prim: Any, mesh: Mesh, points: Array, triangles: NDArray[np.int64]) -> None:
        """Tell where a shape's triangles lie on pictures: by its own places, and by a box in mm for the structures of finishes."""
        kind, interpolation = Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
        primvars = UsdGeom.PrimvarsAPI(prim)
        if mesh.uv is not None:
            held = Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(mesh.uv.reshape(-1, 2), np.float32))
            primvars.CreatePrimvar(_OWN_PLACES, kind, interpolation).Set(held)
        if self.structured:
            mapped = box_mapped(points, triangles, 1.0)
            places = mapped.uv[mapped.triangles.reshape(-1)].astype(np.float32)
            primvars.CreatePrimvar(_BOX_PLACES, kind, interpolation).Set(Vt.Vec2fArray.FromNumpy(places))

    # motion

    def _move(self, node: Any, track: Track) -> None:
        """Place a node, and tell how it moves."""
        place = node.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble)
        turn = node.AddOrientOp(UsdGeom.XformOp.PrecisionDouble)
        x, y, z, w = quaternions(track.stands[None, :3, :3])[0]
        if track.places is None:
            place.Set(Gf.Vec3d(*map(float, track.stands[:3, 3])))
        else:
            for time, value in self._samples(track.places):
                place.Set(Gf.Vec3d(*map(float, value)), time)
        if track.turns is None:
            turn.Set(Gf.Quatd(float(w), float(x), float(y), float(z)))
        else:
            for time, (x, y, z, w) in self._samples(track.turns):
                turn.Set(Gf.Quatd(float(w), float(x), float(y), float(z)), time)
        self.moving += track.moves
        self.keys += track.keys
        self.samples += track.samples

    def _samples(self, keys: Keys) -> Iterable[tuple[float, Array]]:
        """Time codes and values; what is held stays until just before the next one."""
        for k, (time, value) in enumerate(zip(keys.times, keys.values, strict=True)):
            if keys.step and k:
                yield float(np.nextafter(np.float32(time), np.float32(-1.0))) * self.fps, keys.values[k - 1]
            yield float(time) * self.fps, value

    # finishes

    def _materials(self, coloured: Mapping[str, list[tuple[str, str]]]) -> None:
        """Give parts their finishes: as they are, or in a variant for each colourway."""
        project = self.project
        parts = {part.id: part for part in project.parts}
        materials = dict[tuple[Finish, str, float], Any]()

        def bound(colourway: str) -> list[tuple[str, Any]]:
            """What is bound to which material; these are made outside of the variants, which name them."""
            finishes = finishes_of(project, colourway)
            pairs = []
            for part_id, places in coloured.items():
                finish = laid_on(finishes.get(part_id, PAINT), solid_mesh(self.meshes, parts[part_id]))
                for path, colour in places:
                    key = finish, finish.colour or colour, parts[part_id].opacity
                    if key not in materials:
                        materials[key] = self._material(finish, *key[1:])
                    pairs.append((path, materials[key]))
            return pairs

        def bind(pairs: Iterable[tuple[str, Any]]) -> None:
            for path, material in pairs:
                UsdShade.MaterialBindingAPI.Apply(self.stage.OverridePrim(path)).Bind(material)

        own = bound("")
        if not project.colourways:
            bind(own)
            return
        variants = self.stage.GetDefaultPrim().GetVariantSets().AddVariantSet(VARIANTS)
        names, chosen = _Names(), OWN
        for name, way, pairs in [(OWN, "", own), *((w.name, w.id, bound(w.id)) for w in project.colourways)]:
            variant = names.path("", name).removeprefix("/")
            variants.AddVariant(variant)
            variants.SetVariantSelection(variant)
            chosen = variant if way == project.colourway else chosen
            with variants.GetVariantEditContext():
                bind(pairs)
        variants.SetVariantSelection(chosen)

    def _material(self, finish: Finish, colour: str, opacity: float) -> Any:
        """A finish as UsdPreviewSurface, with its pictures, or those of its fine structure."""
        path = self.names.path(_FINISHES, f"{finish.name} {colour.lstrip('#')}")
        material = UsdShade.Material.Define(self.stage, path)
        self._call(material.GetPrim(), f"{finish.name} {colour}")
        shader = UsdShade.Shader.Define(self.stage, f"{path}/Surface")
        shader.CreateIdAttr("UsdPreviewSurface")

        def put(name: str, value: Any, kind: Any = Sdf.ValueTypeNames.Float) -> None:
            shader.CreateInput(name, kind).Set(value)

        put("diffuseColor", Gf.Vec3f(*_linear(colour)), Sdf.ValueTypeNames.Color3f)
        put("metallic", finish.metallic)
        put("roughness", finish.roughness)
        put("ior", finish.index)
        # the preview surface knows no transmission; what lets light through is told as thin cover
        put("opacity", opacity * (1.0 - 0.85 * finish.transmission))
        if finish.coat:
            put("clearcoat", finish.coat)
            put("clearcoatRoughness", finish.coat_roughness)
        if finish.emission:
            light = np.array(_linear(finish.emission)) * (finish.luminance if finish.luminance > 0 else WHITE)
            put("emissiveColor", Gf.Vec3f(*map(float, light)), Sdf.ValueTypeNames.Color3f)
        shown = drawn(finish, colour)
        if shown.pictures is not None:
            self._lay(path, shader, finish, shown, opacity)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        return material

    def _lay(self, path: str, shader: Any, finish: Finish, shown: Finish, opacity: float) -> None:
        """Lay the pictures of a finish on a material."""
        pictures = shown.pictures
        assert pictures is not None
        own = finish.pictures is not None
        reader = UsdShade.Shader.Define(self.stage, f"{path}/Places")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set(_OWN_PLACES if own else _BOX_PLACES)
        places = reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        if not own:
            sized = UsdShade.Shader.Define(self.stage, f"{path}/Grain")
            sized.CreateIdAttr("UsdTransform2d")
            sized.CreateInput("in", Sdf.ValueTypeNames.Float2).ConnectToSource(places)
            sized.CreateInput("scale", Sdf.ValueTypeNames.Float2).Set(Gf.Vec2f(1.0 / finish.grain))
            places = sized.CreateOutput("result", Sdf.ValueTypeNames.Float2)

        def sampler(name: str, text: str, space: str, scale: Any = (1.0,) * 4, bias: Any = (0.0,) * 4) -> Any:
            sampler = UsdShade.Shader.Define(self.stage, f"{path}/{name}")
            sampler.CreateIdAttr("UsdUVTexture")
            sampler.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(self._file(text)))
            sampler.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(places)
            sampler.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set(space)
            for side in ("wrapS", "wrapT"):
                sampler.CreateInput(side, Sdf.ValueTypeNames.Token).Set("repeat")
            sampler.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*scale))
            sampler.CreateInput("bias", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*bias))
            return sampler

        def lead(source: Any, channel: str, kind: Any, name: str, what: Any) -> None:
            source.CreateOutput(channel, kind)
            shader.CreateInput(name, what).ConnectToSource(source.ConnectableAPI(), channel)

        single, three, floats = Sdf.ValueTypeNames.Float, Sdf.ValueTypeNames.Float3, Sdf.ValueTypeNames.Color3f
        if pictures.colour:
            base = sampler("Colour", pictures.colour, "sRGB", (*_linear(pictures.factor), opacity))
            lead(base, "rgb", three, "diffuseColor", floats)
            if decoded(pictures.colour).shape[2] == 4:
                lead(base, "a", single, "opacity", single)
                shader.CreateInput("opacityThreshold", single).Set(0.5 if opacity == 1 else 0.0)
        if pictures.surface:
            parts = sampler("Parts", pictures.surface, "raw", (1.0, shown.roughness, shown.metallic, 1.0))
            lead(parts, "g", single, "roughness", single)
            lead(parts, "b", single, "metallic", single)
            if shown.contrast > 0:
                lead(parts, "r", single, "occlusion", single)
        if pictures.normal and shown.relief > 0:
            # from 0 to 1 to -1 to 1, less steep by the relief
            steep = (2.0 * shown.relief, 2.0 * shown.relief, 2.0, 1.0)
            low = (-shown.relief, -shown.relief, -1.0, 0.0)
            lead(
                sampler("Normals", pictures.normal, "raw", steep, low),
                "rgb",
                three,
                "normal",
                Sdf.ValueTypeNames.Normal3f,
            )
        if pictures.emission and finish.emission:
            light = np.array(_linear(finish.emission)) * (finish.luminance if finish.luminance > 0 else WHITE)
            glow = sampler("Glow", pictures.emission, "sRGB", (*map(float, light), 1.0))
            lead(glow, "rgb", three, "emissiveColor", floats)

    def _file(self, text: str) -> str:
        """The path of a picture from the scene, by whose content it is named."""
        data, kind = file_of(text)
        name = f"{hashlib.sha256(data).hexdigest()[:24]}.{'jpg' if kind == 'jpeg' else kind}"
        self.pictures[name] = data
        return f"./{self.folder}/{name}"

    # cameras and lights

    def _camera(self, one: CameraTrack) -> None:
        camera = one.camera
        path = self.names.path(_WORLD, camera.name)
        prim = UsdGeom.Camera.Define(self.stage, path)
        self._call(prim.GetPrim(), camera.name)
        self._move(prim, one.track)
        prim.CreateClippingRangeAttr(Gf.Vec2f(_NEAR, _FAR))
        # apertures and focal lengths are told in tenths of the scene's unit
        tenths = 10.0
        if camera.parallel:
            prim.CreateProjectionAttr(UsdGeom.Tokens.orthographic)
            self._over_time(prim.CreateVerticalApertureAttr(), one.times, tenths * one.view_height)
            self._over_time(prim.CreateHorizontalApertureAttr(), one.times, tenths * one.aspect * one.view_height)
        else:
            wide, high = frame_on_sensor(camera, one.aspect, 1.0)
            prim.CreateHorizontalApertureAttr(tenths * wide)
            prim.CreateVerticalApertureAttr(tenths * high)
            self._over_time(prim.CreateFocalLengthAttr(), one.times, tenths * one.focal_length)
        self._over_time(prim.CreateFocusDistanceAttr(), one.times, one.focus)
        prim.CreateFStopAttr(camera.f_number)

    def _over_time(self, attribute: Any, times: Array, values: Array) -> None:
        if len(times) == 1:
            attribute.Set(float(values[0]))
            return
        for time, value in zip(times, values, strict=True):
            attribute.Set(float(value), float(time) * self.fps)

    def _lights(self, sampled: Samples) -> None:
        """The project's lights, and the light set-up: its boxes as distant lights, and a dome of what is between them."""
        for light in self.project.lights:
            self._light(light, sampled)
        self._setup()

    def _light(self, light: Light, sampled: Samples) -> None:
        path = self.names.path(_WORLD, light.name)
        kind = {"point": UsdLux.SphereLight, "spot": UsdLux.SphereLight, "area": UsdLux.RectLight}
        prim = kind.get(light.kind, UsdLux.DistantLight).Define(self.stage, path)
        self._call(prim.GetPrim(), light.name)
        if light.kind in ("point", "spot"):
            prim.CreateRadiusAttr(1000.0 * _BULB)
            per = 1.0 / (np.pi * _BULB**2)  # nits of a candela: the ball's disc shines
            if light.kind == "spot":
                shaping = UsdLux.ShapingAPI.Apply(prim.GetPrim())
                shaping.CreateShapingConeAngleAttr(0.5 * light.cone)
                shaping.CreateShapingConeSoftnessAttr(0.0)
        elif light.kind == "area":
            prim.CreateWidthAttr(light.size[0])
            prim.CreateHeightAttr(light.size[1])
            per = 1e6 / max(light.size[0] * light.size[1], 1e-6)  # nits of a candela straight ahead
        else:
            half = np.radians(0.265)  # the sun's radius as seen from the earth
            prim.CreateAngleAttr(float(np.degrees(2 * half)))
            per = 1.0 / (np.pi * np.sin(half) ** 2)  # nits of a lux
        moments = sampled.moments if len(sampled.times) > 1 and light.keys else sampled.moments[:1]
        states = [state(light, float(time)) for time in moments]
        strengths = np.array([strength * per for strength, _ in states])
        kept = _changes(strengths, [colour for _, colour in states])
        intensity, colours = prim.CreateIntensityAttr(), prim.CreateColorAttr()
        for k in kept:
            time = float(sampled.times[k]) * self.fps
            colour = Gf.Vec3f(*_linear(states[k][1]))
            if len(kept) == 1:
                intensity.Set(float(strengths[k]))
                colours.Set(colour)
            else:
                intensity.Set(float(strengths[k]), time)
                colours.Set(colour, time)
        if not light.on:
            UsdGeom.Imageable(prim).MakeInvisible()
        places, targets = light_places(self.project, light, sampled.moments)
        self._move(prim, _aimed(np.asarray(places), np.asarray(targets), sampled, self.exact))

    def _setup(self) -> None:
        setup = self.project.light_setup
        for number, box in enumerate(soft_boxes(setup)):
            path = self.names.path(_WORLD, f"Studio light {number + 1}")
            prim = UsdLux.DistantLight.Define(self.stage, path)
            self._call(prim.GetPrim(), f"Studio light {number + 1}")
            half = np.radians(min(max(box.width, box.height), 85.0))
            prim.CreateAngleAttr(float(np.degrees(2 * half)))
            # what faces it is lit as a white surface of that luminance is
            lux = box.strength * np.pi * WHITE
            prim.CreateIntensityAttr(float(lux / (np.pi * np.sin(half) ** 2)))
            prim.CreateColorAttr(Gf.Vec3f(*map(float, box.colour)))
            frame = np.eye(4)
            frame[:3, :3] = _looking(-box.direction[None])[0]
            self._move(prim, Track(frame))
        rays = directions(32)
        mean = (surround(setup, rays) * solid_angles(32)[..., None]).sum(axis=(0, 1)) / (4 * np.pi)
        most = float(mean.max())
        if most > 0:
            dome = UsdLux.DomeLight.Define(self.stage, self.names.path(_WORLD, "Surroundings"))
            self._call(dome.GetPrim(), "Surroundings")
            dome.CreateIntensityAttr(most * WHITE)
            dome.CreateColorAttr(Gf.Vec3f(*map(float, mean / most)))

    def _call(self, prim: Any, name: str) -> None:
        """Note what a thing is called, whatever its prim's name is."""
        prim.SetDisplayName(name)


def _linear(colour: str) -> list[float]:
    return [round(float(v), 6) for v in linear(colour)]


def _changes(values: Array, colours: list[str]) -> list[int]:
    """The rows that tell how a light shines: the first, and those before and at which it changes."""
    kept = {0}
    for k in range(1, len(values)):
        if values[k] != values[k - 1] or colours[k] != colours[k - 1]:
            kept |= {k - 1, k}
    return sorted(kept)


def _looking(forward: Array) -> Array:
    """Rotations (n, 3, 3) of what looks along its -z in directions (n, 3), its +y upwards as far as may be."""
    forward = forward / np.maximum(np.linalg.norm(forward, axis=1, keepdims=True), 1e-12)
    steep = np.abs(forward[:, 2]) > 0.9999
    up = np.where(steep[:, None], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0])
    right = np.cross(forward, up)
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    return np.stack([right, np.cross(right, forward), -forward], axis=2)


def _aimed(places: Array, targets: Array, sampled: Samples, exact: Exactness) -> Track:
    """The track of a light that stands at places (n, 3) and shines at targets (n, 3) at the samples."""
    turns = _looking(targets - places)
    frame = np.eye(4)
    frame[:3, :3], frame[:3, 3] = turns[0], places[0]
    moved, turned = np.ptp(places, axis=0).max() > 1e-6, np.abs(turns - turns[0]).max() > 1e-9
    reach = float(np.linalg.norm(targets - places, axis=1).max())
    return Track(
        frame,
        place_keys(sampled, places, exact.place) if moved else None,
        turn_keys(sampled, quaternions(turns), exact.place, reach) if turned else None,
        len(places),
    )
