"""What is in a scene of OpenUSD, as plain arrays. It runs in a process of its own, see :mod:`kestrav.core.files.usd_import`."""

from __future__ import annotations

import ctypes
import signal
from collections import Counter
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import scipy
import trimesh
from numpy.typing import NDArray
from pxr import Ar, Gf, Sdf, Usd, UsdGeom, UsdShade, UsdUtils

from kestrav.core.finishes.pictures import kept, mean_colour, merged_surface

Array = NDArray[np.float64]

MOST_PLACED = 100_000  # nodes of one scene; instances of instances grow to any number from a few lines
_MOST_TIMES = 20_000  # of one motion
_SAME = 1e-9
_AXES = {"X": "x", "Y": "y", "Z": "z"}


def main(target: str, source: str) -> None:
    """Read a scene, and write what is in it, or what is wrong with it, as a NumPy archive."""
    ctypes.CDLL(None).prctl(1, signal.SIGKILL)  # end with the process that waits for this one
    scene = _Scene()
    try:
        scene.read(Path(source))
    except ValueError as fault:
        scene.header["fault"] = str(fault)
    with Path(target).open("wb") as file:
        scene.write(file)


class _Scene:
    """The nodes, shapes, looks and motions found so far."""

    def __init__(self) -> None:
        self.nodes: list[dict[str, Any]] = []
        self.shapes: list[dict[str, Any]] = []
        self.looks: list[dict[str, Any]] = []
        self.header: dict[str, Any] = {"unit": 10.0, "up": "y"}
        self.faults: Counter[str] = Counter()
        self._known: dict[str, int | None] = {}
        self._looked: dict[str, int] = {}
        self._matrices: list[Array] = []
        self._points: list[Array] = []
        self._triangles: list[NDArray[np.int64]] = []
        self._tint_of: list[NDArray[np.int32]] = []
        self._times: list[Array] = []
        self._poses: list[Array] = []
        self._uv: list[NDArray[np.float32]] = []

    def read(self, file: Path) -> None:
        """Raises ValueError saying what is wrong with a scene."""
        folder = file.parent
        layers, _, missing = UsdUtils.ComputeAllDependencies(Sdf.AssetPath(str(file)))
        for layer in layers:
            place = layer.realPath.split("[")[0]
            if place and not Path(place).resolve().is_relative_to(folder):
                raise ValueError(f"it points at “{layer.identifier}”, outside its own folder")
        for name in missing:
            self.faults[f"it points at “{name}”, which is missing"] += 1
        stage = Usd.Stage.Open(str(file))
        if stage is None:
            raise ValueError("OpenUSD cannot open it")
        self.stage = stage
        self.header |= {
            "unit": 1000.0 * float(UsdGeom.GetStageMetersPerUnit(stage)),
            "up": _AXES.get(str(UsdGeom.GetStageUpAxis(stage)), "y"),
        }
        self.rate = float(stage.GetTimeCodesPerSecond()) or 24.0
        self.begin = float(stage.GetStartTimeCode()) if stage.HasAuthoredTimeCodeRange() else 0.0
        self.end = float(stage.GetEndTimeCode()) if stage.HasAuthoredTimeCodeRange() else 0.0
        self.at = Usd.TimeCode(self.begin)
        self.cache = UsdGeom.XformCache(self.at)
        waiting = [(prim, -1, False, ()) for prim in reversed(self._inside(stage.GetPseudoRoot()))]
        while waiting:
            prim, parent, moved, above = waiting.pop()
            if len(self.nodes) > MOST_PLACED:
                raise ValueError(f"it places more than {MOST_PLACED} things")
            if not self._seen(prim):
                continue
            if prim.IsA(UsdGeom.PointInstancer):
                number = self._node(prim, parent, moved=moved)
                self._instances(UsdGeom.PointInstancer(prim), number, above)
                continue
            number, moved = self._node(prim, parent, moved=moved), moved or self._moves(prim)
            waiting += [(one, number, moved, above) for one in reversed(self._inside(prim))]

    @staticmethod
    def _inside(prim: Usd.Prim) -> list[Usd.Prim]:
        return list(prim.GetFilteredChildren(Usd.TraverseInstanceProxies(Usd.PrimDefaultPredicate)))

    def _seen(self, prim: Usd.Prim) -> bool:
        """Whether a prim is one that is looked at: no material, camera or light, shown, and no stand-in."""
        if prim.IsA(UsdGeom.Imageable):
            if UsdGeom.Imageable(prim).GetVisibilityAttr().Get(self.at) == UsdGeom.Tokens.invisible:
                return False
            if UsdGeom.Imageable(prim).GetPurposeAttr().Get() in (UsdGeom.Tokens.guide, UsdGeom.Tokens.proxy):
                return False
            return not prim.IsA(UsdGeom.Camera) and not prim.IsA(UsdGeom.Subset) and not prim.HasAPI("LightAPI")
        return not (prim.IsA(UsdShade.Material) or prim.IsA(UsdShade.Shader)) and prim.GetTypeName() == ""

    @staticmethod
    def _moves(prim: Usd.Prim) -> bool:
        return bool(prim.IsA(UsdGeom.Xformable)) and UsdGeom.Xformable(prim).TransformMightBeTimeVarying()

    def _node(self, prim: Usd.Prim, parent: int, *, moved: bool, matrix: Array | None = None) -> int:
        """Note a prim that lies in another; ``moved`` tells whether something above it moves."""
        if matrix is None:
            local, resets = (
                self.cache.GetLocalTransformation(prim) if prim.IsA(UsdGeom.Xformable) else (Gf.Matrix4d(1), False)
            )
            if resets:
                # it does not lie in what it stands under
                local, parent = self.cache.GetLocalToWorldTransform(prim), -1
            matrix = np.array(local).T
        shape = self._shape(prim)
        material = self._material(prim) if shape is not None else None
        motion = self._motion(prim, moved=moved) if self._moves(prim) else None
        name = prim.GetDisplayName() or prim.GetName()
        self.nodes.append({"name": name, "parent": parent, "shape": shape, "looks": material, "motion": motion})
        self._matrices.append(matrix)
        return len(self.nodes) - 1

    # motion

    def _motion(self, prim: Usd.Prim, *, moved: bool) -> list[int] | None:
        """The rows of times and poses in space of a prim that moves."""
        codes = set(UsdGeom.Xformable(prim).GetTimeSamples())
        if moved:
            # under what moves as well it goes straight no longer
            here = prim.GetParent()
            while here and here.IsA(UsdGeom.Xformable):
                codes |= set(UsdGeom.Xformable(here).GetTimeSamples())
                here = here.GetParent()
            codes |= set(np.arange(self.begin, self.end + 0.5).tolist()[:_MOST_TIMES])
        times = np.array(sorted(code for code in codes if code >= self.begin))
        if len(times) < 2:
            return None
        if len(times) > _MOST_TIMES:
            self.faults[
                f"“{prim.GetName()}” moves at {len(times)} times; at {_MOST_TIMES} at most it is brought in"
            ] += 1
            return None
        poses = np.empty((len(times), 4, 4))
        for k, code in enumerate(times):
            poses[k] = np.array(UsdGeom.Imageable(prim).ComputeLocalToWorldTransform(Usd.TimeCode(code))).T
        if np.abs(poses - poses[0]).max() < _SAME:
            return None
        sizes = np.linalg.norm(poses[:, :3, :3], axis=1)
        if np.abs(sizes - sizes[0]).max() > 1e-4 * sizes.max():
            self.faults[f"“{prim.GetName()}” changes its size in time, which is not brought in"] += 1
        first = sum(map(len, self._times))
        self._times.append((times - self.begin) / self.rate)
        self._poses.append(poses)
        return [first, first + len(times)]

    # instances

    def _instances(self, placer: UsdGeom.PointInstancer, parent: int, above: tuple[str, ...]) -> None:
        """Place what a point instancer places."""
        path = str(placer.GetPath())
        if path in above:
            self.faults[f"“{path}” places itself"] += 1
            return
        indices = placer.GetProtoIndicesAttr().Get(self.at) or []
        roots = placer.GetPrototypesRel().GetForwardedTargets()
        matrices = placer.ComputeInstanceTransformsAtTime(self.at, self.at) or []
        if placer.GetPositionsAttr().ValueMightBeTimeVarying():
            self.faults[f"“{placer.GetPrim().GetName()}”: the motion of its instances is not brought in"] += 1
        for index, matrix in zip(indices, matrices, strict=False):
            if not 0 <= index < len(roots):
                self.faults[f"“{path}” places something that is not there"] += 1
                continue
            prim = self.stage.GetPrimAtPath(roots[index])
            if not prim:
                continue
            # the instance's matrix holds the prototype's own
            waiting: list[tuple[Usd.Prim, int, Array | None]] = [(prim, parent, np.array(matrix).T)]
            while waiting:
                one, under, there = waiting.pop()
                if len(self.nodes) > MOST_PLACED:
                    raise ValueError(f"it places more than {MOST_PLACED} things")
                if one is not prim and not self._seen(one):
                    continue
                number = self._node(one, under, moved=False, matrix=there)
                if one.IsA(UsdGeom.PointInstancer):
                    self._instances(UsdGeom.PointInstancer(one), number, (*above, path))
                else:
                    waiting += [(inner, number, None) for inner in reversed(self._inside(one))]

    # shapes

    def _shape(self, prim: Usd.Prim) -> int | None:
        """The number of a prim's shape, if it has one; instances of one prototype share it."""
        if not prim.IsA(UsdGeom.Gprim):
            return None
        key = str(prim.GetPrimInPrototype().GetPath()) if prim.IsInstanceProxy() else str(prim.GetPath())
        looks = self._material(prim)
        places = None if looks is None else self.looks[looks]["places"]
        if places is not None:
            key = f"{key} {places}"  # by other places on pictures it is another
        if key not in self._known:
            self._known[key] = self._made_shape(prim, key, places)
        return self._known[key]

    def _made_shape(self, prim: Usd.Prim, key: str, places: list[Any] | None) -> int | None:
        tints: list[int] = []
        tint_of = uv = None
        if prim.IsA(UsdGeom.Mesh):
            mesh = self._mesh(UsdGeom.Mesh(prim))
            if mesh is None:
                return None
            points, triangles, faces, corners = mesh
            tints, tint_of = self._subsets(prim, faces)
            uv = None if places is None else self._places(prim, places, triangles, corners)
        else:
            solid = _solid(prim, self.at)
            if solid is None:
                self.faults[f"“{prim.GetName()}” is a {prim.GetTypeName()}, no surface"] += 1
                return None
            points, triangles = np.asarray(solid.vertices, float), np.asarray(solid.faces, np.int64)
        colour = UsdGeom.Gprim(prim).GetDisplayColorAttr().Get(self.at)
        first, begin, lies = (sum(map(len, held)) for held in (self._points, self._triangles, self._uv))
        if uv is not None:
            self._uv.append(uv)
        self._points.append(points)
        self._triangles.append(triangles)
        self._tint_of.append(tint_of if tint_of is not None else np.zeros(len(triangles), np.int32))
        self.shapes.append(
            {
                "key": key,
                "points": [first, first + len(points)],
                "triangles": [begin, begin + len(triangles)],
                "tints": tints,
                "colour": _hex(colour[0]) if colour else "",
                "uv": None if uv is None else [lies, lies + len(uv)],
            }
        )
        return len(self.shapes) - 1

    def _places(
        self, prim: Usd.Prim, places: list[Any], triangles: NDArray[np.int64], corners: NDArray[np.int64]
    ) -> NDArray[np.float32] | None:
        """Where triangles lie on pictures (m, 3, 2), by the primvar of a name, scaled, turned (degrees) and shifted; ``corners`` (m, 3) number
        the corners of the faces that they were. None where it is not there, or does not fit."""
        name, scale, turn, shift = places
        primvar = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance(name)
        values = primvar.ComputeFlattened(self.at) if primvar else None
        points = np.asarray(values if values is not None else [], float)
        if points.ndim != 2 or points.shape[1] != 2 or not np.isfinite(points).all():
            return None
        by = {UsdGeom.Tokens.faceVarying: corners, UsdGeom.Tokens.vertex: triangles, UsdGeom.Tokens.varying: triangles}
        numbers = by.get(primvar.GetInterpolation())
        if numbers is None or numbers.max(initial=0) >= len(points):
            return None
        c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
        laid = (points * scale) @ np.array([[c, s], [-s, c]]) + shift
        return np.ascontiguousarray(laid[numbers], np.float32)

    def _mesh(self, mesh: UsdGeom.Mesh) -> tuple[Array, NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]] | None:
        """Points, triangles, the number of each triangle's face, and which corners of the faces the triangles' corners are."""
        name = mesh.GetPrim().GetName()
        points = np.array(mesh.GetPointsAttr().Get(self.at) or [], float).reshape(-1, 3)
        counts = np.array(mesh.GetFaceVertexCountsAttr().Get(self.at) or [], np.int64)
        corners = np.array(mesh.GetFaceVertexIndicesAttr().Get(self.at) or [], np.int64)
        if not len(points) or not len(counts):
            self.faults[f"“{name}” has no faces"] += 1
            return None
        if (
            counts.min() < 0
            or counts.sum() != len(corners)
            or corners.min(initial=0) < 0
            or corners.max(initial=0) >= len(points)
        ):
            self.faults[f"“{name}”: its faces name corners that are not there"] += 1
            return None
        if mesh.GetPointsAttr().ValueMightBeTimeVarying():
            self.faults[f"“{name}” changes its shape in time, which is not brought in"] += 1
        if (
            mesh.GetSubdivisionSchemeAttr().Get() != UsdGeom.Tokens.none
            and (counts > 3).any()
            and mesh.GetSubdivisionSchemeAttr().HasAuthoredValue()
        ):
            self.faults[f"“{name}” is a subdivision surface, which is shown by its control mesh"] += 1
        fans, faces = _triangles(points[corners], counts, np.arange(len(corners)))
        holes = np.array(mesh.GetHoleIndicesAttr().Get(self.at) or [], np.int64)
        kept = ~np.isin(faces, holes)
        fans, faces = fans[kept], faces[kept]
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            fans = fans[:, ::-1]
        return points, corners[fans], faces, fans

    def _subsets(self, prim: Usd.Prim, faces: NDArray[np.int64]) -> tuple[list[int], NDArray[np.int32] | None]:
        """The looks of faces that have their own: their numbers (-1 for the prim's), and which each triangle has."""
        subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
        if not subsets:
            return [], None
        tints, tint_of = [-1], np.zeros(len(faces), np.int32)
        for subset in subsets:
            looks = self._material(subset.GetPrim())
            if looks is None:
                continue
            tint_of[np.isin(faces, np.array(subset.GetIndicesAttr().Get(self.at) or [], np.int64))] = len(tints)
            tints.append(looks)
        return tints, tint_of

    # looks

    def _material(self, prim: Usd.Prim) -> int | None:
        """The number of the looks of the material that a prim is bound to."""
        material, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        if not material:
            return None
        path = str(material.GetPath())
        if path not in self._looked:
            self._looked[path] = len(self.looks)
            self.looks.append(self._read_material(material))
        return self._looked[path]

    def _read_material(self, material: UsdShade.Material) -> dict[str, Any]:
        values: dict[str, Any] = {
            "name": material.GetPrim().GetDisplayName() or material.GetPrim().GetName(),
            "colour": None,
            "opacity": 1.0,
            "metallic": 0.0,
            "roughness": 0.5,
            "coat": 0.0,
            "coat_roughness": 0.01,
            "index": 1.5,
            "emission": [0.0, 0.0, 0.0],
            "surface": False,
            "pictures": None,
            "places": None,
        }
        shader, *_ = material.ComputeSurfaceSource() or (None,)
        if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
            self.faults["materials other than UsdPreviewSurface are shown plain"] += 1
            return values
        values["surface"], values["colour"] = True, [0.18, 0.18, 0.18]
        names = {
            "diffuseColor": "colour", "emissiveColor": "emission", "opacity": "opacity", "metallic": "metallic", "roughness": "roughness",
            "clearcoat": "coat", "clearcoatRoughness": "coat_roughness", "ior": "index",
        }  # fmt: skip
        for name, field in names.items():
            value = self._value(shader.GetInput(name))
            if value is None:
                continue
            if field in ("colour", "emission"):
                values[field] = [min(max(float(v), 0.0), 1e7) for v in value]
            else:
                low, high = (1.0, 5.0) if field == "index" else (0.0, 1.0)
                values[field] = round(min(max(float(value), low), high), 6)
        if values["index"] < 1.0:
            values["index"] = 1.5
        self._pictures(shader, values)
        return values

    def _pictures(self, shader: UsdShade.Shader, values: dict[str, Any]) -> None:
        """Note the pictures that a surface takes its values from, and by what they lie on it; what lies otherwise than the first is left out."""
        samplers = {}
        for name in ("diffuseColor", "normal", "occlusion", "roughness", "metallic", "emissiveColor"):
            source = _sampler(shader.GetInput(name))
            if source is None:
                continue
            sampler, channel = source
            data, places = self._data(sampler), _places_of(sampler)
            if data is None or (values["places"] is not None and values["places"] != places):
                self.faults[
                    "a picture on a surface cannot be read or lies otherwise than the others, and is not shown"
                ] += 1
                continue
            values["places"] = places
            scale = sampler.GetInput("scale").Get(self.at) if sampler.GetInput("scale") else None
            samplers[name] = data, channel, [float(v) for v in scale or (1.0, 1.0, 1.0, 1.0)]
        if not samplers:
            return
        pictures: dict[str, Any] = {"factor": [1.0, 1.0, 1.0]}
        try:
            if "diffuseColor" in samplers:
                data, _, scale = samplers["diffuseColor"]
                pictures |= {"colour": kept(data), "factor": [min(max(v, 0.0), 1.0) for v in scale[:3]]}
                values["colour"] = [v * f for v, f in zip(mean_colour(data), pictures["factor"], strict=True)]
            if "normal" in samplers:
                pictures["normal"] = kept(samplers["normal"][0])
                values["relief"] = round(min(max(0.5 * samplers["normal"][2][0], 0.0), 1.0), 6)
            if "emissiveColor" in samplers:
                pictures["emission"] = kept(samplers["emissiveColor"][0])
                values["emission"] = samplers["emissiveColor"][2][:3]
            parts = [samplers.get(name) for name in ("occlusion", "roughness", "metallic")]
            occlusion, rough, metal = (None if one is None else (one[0], one[1]) for one in parts)
            pictures["surface"] = merged_surface(occlusion, rough, metal)
            for name, one in zip(("roughness", "metallic"), parts[1:], strict=True):
                if one is not None:
                    values[name] = round(min(max(one[2][one[1]], 0.0), 1.0), 6)
            values["occlusion"] = parts[0] is not None
            values["pictures"] = pictures
        except ValueError:
            self.faults["a picture on a surface cannot be read, and is not shown"] += 1

    @staticmethod
    def _data(sampler: UsdShade.Shader) -> bytes | None:
        """The file of a texture's picture; none where it is not there."""
        file = sampler.GetInput("file").Get()
        if file is None or not file.resolvedPath:
            return None
        asset = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(file.resolvedPath))
        return bytes(asset.GetBuffer()) if asset else None

    def _value(self, value: UsdShade.Input) -> Any:
        """A plain value of an input, or that of the material's that it is connected to; none where it is a picture."""
        if not value:
            return None
        sources = value.GetValueProducingAttributes()
        if not sources:
            return None
        if UsdShade.Utils.GetType(sources[0].GetName()) == UsdShade.AttributeType.Output:
            return None
        return sources[0].Get(self.at)

    # handing over

    def write(self, file: Any) -> None:
        """Write all of it."""
        self.header |= {
            "nodes": self.nodes,
            "shapes": self.shapes,
            "looks": self.looks,
            "left_out": [text if n == 1 else f"{text} ({n} times)" for text, n in self.faults.items()],
        }
        np.savez(
            file,
            header=np.frombuffer(msgspec.json.encode(self.header), np.uint8),
            matrices=_joined(self._matrices, (0, 4, 4), float, stacked=True),
            points=_joined(self._points, (0, 3), float),
            triangles=_joined(self._triangles, (0, 3), np.int64),
            tint_of=_joined(self._tint_of, (0,), np.int32),
            uv=_joined(self._uv, (0, 3, 2), np.float32),
            times=_joined(self._times, (0,), float),
            poses=_joined(self._poses, (0, 4, 4), float),
        )


def _joined(items: list[Any], empty: tuple[int, ...], kind: Any, *, stacked: bool = False) -> NDArray[Any]:
    if not items:
        return np.empty(empty, kind)
    return np.stack(items) if stacked else np.concatenate(items)


def _sampler(value: UsdShade.Input) -> tuple[UsdShade.Shader, int] | None:
    """The texture that an input takes its value from, and the first of its channels; none where it is no texture's."""
    sources = value.GetValueProducingAttributes() if value else []
    if not sources or UsdShade.Utils.GetType(sources[0].GetName()) != UsdShade.AttributeType.Output:
        return None
    sampler, name = UsdShade.Shader(sources[0].GetPrim()), UsdShade.Utils.GetBaseNameAndType(sources[0].GetName())[0]
    if not sampler or sampler.GetIdAttr().Get() != "UsdUVTexture":
        return None
    return sampler, max("rgb".find(str(name)[0]), 0)


def _places_of(sampler: UsdShade.Shader) -> list[Any]:
    """The primvar by which a texture lies on a surface, and its scale, rotation in degrees and translation."""
    scale, turn, shift = [1.0, 1.0], 0.0, [0.0, 0.0]

    def source(value: UsdShade.Input) -> UsdShade.Shader | None:
        sources = value.GetValueProducingAttributes() if value else []
        return UsdShade.Shader(sources[0].GetPrim()) if sources else None

    reader = source(sampler.GetInput("st"))
    if reader and reader.GetIdAttr().Get() == "UsdTransform2d":
        inputs = {name: reader.GetInput(name) for name in ("scale", "rotation", "translation")}
        values = {name: one.Get() for name, one in inputs.items() if one and one.Get() is not None}
        scale = [float(v) for v in values.get("scale", scale)]
        turn = float(values.get("rotation", turn))
        shift = [float(v) for v in values.get("translation", shift)]
        reader = source(reader.GetInput("in"))
    name = reader.GetInput("varname") if reader else None
    # a name may come from the material's own inputs
    named = name.GetValueProducingAttributes() if name else []
    return [str(named[0].Get() if named else "st"), scale, turn, shift]


def _hex(colour: Any) -> str:
    from kestrav.core.colours import srgb_hex

    return srgb_hex([min(max(float(v), 0.0), 1.0) for v in colour])


def _triangles(
    points: Array, counts: NDArray[np.int64], corners: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Triangles of faces, each as a fan from the corner from which it goes the right way round, and the number of each one's face."""
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]])
    triangles, of = [], []
    for size in np.unique(counts[counts >= 3]):
        faces = np.flatnonzero(counts == size)
        rings = corners[starts[faces][:, None] + np.arange(size)]
        if size > 3:
            rings = _turned(points, rings)
        fan = np.stack([rings[:, [0] * (size - 2)], rings[:, 1:-1], rings[:, 2:]], axis=2)
        triangles.append(fan.reshape(-1, 3))
        of.append(np.repeat(faces, size - 2))
    if not triangles:
        return np.empty((0, 3), np.int64), np.empty(0, np.int64)
    return np.concatenate(triangles), np.concatenate(of)


def _turned(points: Array, rings: NDArray[np.int64]) -> NDArray[np.int64]:
    """Rings (n, k) of corners, each begun where the triangles of its fan turn against its normal least."""
    around = points[rings]
    normal = np.cross(around - around[:, :1], np.roll(around, -1, axis=1) - around[:, :1]).sum(axis=1)
    best, least = rings, np.full(len(rings), np.inf)
    for k in range(rings.shape[1]):
        tried = np.roll(rings, -k, axis=1)
        p = points[tried]
        across = np.cross(p[:, 1:-1] - p[:, :1], p[:, 2:] - p[:, :1])
        wrong = -np.minimum(np.einsum("nki,ni->nk", across, normal), 0.0).sum(axis=1)
        better = wrong < least - 1e-12
        best = np.where(better[:, None], tried, best)
        least = np.where(better, wrong, least)
    return best


def _solid(prim: Usd.Prim, at: Usd.TimeCode) -> Any:
    """A plain solid of UsdGeom as triangles; none for what is no solid."""

    def value(name: str) -> Any:
        return prim.GetAttribute(name).Get(at)

    if prim.IsA(UsdGeom.Cube):
        return trimesh.creation.box((value("size"),) * 3)
    if prim.IsA(UsdGeom.Sphere):
        return trimesh.creation.icosphere(4, value("radius"))
    if prim.IsA(UsdGeom.Cylinder):
        solid = trimesh.creation.cylinder(value("radius"), value("height"), sections=64)
    elif prim.IsA(UsdGeom.Cone):
        solid = trimesh.creation.cone(value("radius"), value("height"), sections=64)
        solid.apply_translation((0, 0, -0.5 * value("height")))
    elif prim.IsA(UsdGeom.Capsule):
        solid = trimesh.creation.capsule(value("height"), value("radius"), count=[32, 32])
        solid.apply_translation(-solid.bounds.mean(axis=0))
    else:
        return None
    turn = {"X": [0, np.pi / 2, 0], "Y": [-np.pi / 2, 0, 0]}.get(str(value("axis")))
    if turn:
        matrix = np.eye(4)
        matrix[:3, :3] = scipy.spatial.transform.Rotation.from_euler("xyz", turn).as_matrix()
        solid.apply_transform(matrix)
    return solid
