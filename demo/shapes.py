"""Solid shapes and the assembly writer that the demo's geometry script is built from.

All lengths in mm. Needs ``cadquery-ocp``, a development dependency only.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from pathlib import Path

from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeBox,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakePrism,
    BRepPrimAPI_MakeTorus,
)
from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.IFSelect import IFSelect_RetDone
from OCP.Interface import Interface_Static
from OCP.Quantity import Quantity_Color, Quantity_ColorRGBA, Quantity_TOC_sRGB
from OCP.STEPCAFControl import STEPCAFControl_Writer
from OCP.STEPControl import STEPControl_AsIs
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDataStd import TDataStd_Name
from OCP.TDF import TDF_Label
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopExp import TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Shape
from OCP.XCAFDoc import XCAFDoc_ColorSurf, XCAFDoc_DocumentTool

Vector = tuple[float, float, float]
X, Y, Z = (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)


def box(size: Vector, low: Vector | None = None) -> TopoDS_Shape:
    """A box of ``size``, its lowest corner at ``low`` (centred when not given)."""
    corner = low or tuple(-s / 2 for s in size)
    return BRepPrimAPI_MakeBox(gp_Pnt(*corner), *size).Shape()


def cylinder(radius: float, length: float, base: Vector = (0, 0, 0), axis: Vector = Z) -> TopoDS_Shape:
    """A cylinder from ``base`` along ``axis``."""
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*base), gp_Dir(*axis)), radius, length).Shape()


def ring(major: float, minor: float, centre: Vector = (0, 0, 0), axis: Vector = Z) -> TopoDS_Shape:
    """A torus."""
    return BRepPrimAPI_MakeTorus(gp_Ax2(gp_Pnt(*centre), gp_Dir(*axis)), major, minor).Shape()


def tube(outer: float, inner: float, length: float, base: Vector = (0, 0, 0), axis: Vector = Z) -> TopoDS_Shape:
    """A hollow cylinder."""
    return cut(cylinder(outer, length, base, axis), cylinder(inner, length, base, axis))


def bend(major: float, minor: float, angle: float, centre: Vector, axis: Vector, start: Vector) -> TopoDS_Shape:
    """A pipe bend: part of a torus of ``angle`` degrees from direction ``start`` about ``axis``."""
    frame = gp_Ax2(gp_Pnt(*centre), gp_Dir(*axis), gp_Dir(*start))
    return BRepPrimAPI_MakeTorus(frame, major, minor, math.radians(angle)).Shape()


def prism(outline: list[Vector], along: Vector) -> TopoDS_Shape:
    """A plane outline pushed along a vector."""
    polygon = BRepBuilderAPI_MakePolygon()
    for corner in outline:
        polygon.Add(gp_Pnt(*corner))
    polygon.Close()
    return BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(polygon.Wire()).Face(), gp_Vec(*along)).Shape()


def cut(body: TopoDS_Shape, *tools: TopoDS_Shape) -> TopoDS_Shape:
    """``body`` less every tool."""
    for tool in tools:
        body = BRepAlgoAPI_Cut(body, tool).Shape()
    return body


def fuse(*bodies: TopoDS_Shape) -> TopoDS_Shape:
    """All bodies as one."""
    result = bodies[0]
    for body in bodies[1:]:
        result = BRepAlgoAPI_Fuse(result, body).Shape()
    return result


def fillet(body: TopoDS_Shape, radius: float) -> TopoDS_Shape:
    """Every edge of ``body`` rounded."""
    maker = BRepFilletAPI_MakeFillet(body)
    explorer = TopExp_Explorer(body, TopAbs_EDGE)
    while explorer.More():
        maker.Add(radius, TopoDS.Edge(explorer.Current()))
        explorer.Next()
    return maker.Shape()


def move(offset: Vector) -> gp_Trsf:
    """A shift."""
    placed = gp_Trsf()
    placed.SetTranslation(gp_Vec(*offset))
    return placed


def turn(axis: Vector, degrees: float, about: Vector = (0, 0, 0), offset: Vector = (0, 0, 0)) -> gp_Trsf:
    """A turn about ``axis`` through ``about``, then a shift by ``offset``."""
    turned = gp_Trsf()
    turned.SetRotation(gp_Ax1(gp_Pnt(*about), gp_Dir(*axis)), math.radians(degrees))
    return move(offset).Multiplied(turned)


@dataclass(frozen=True)
class Solid:
    """One product: a shape with a name and a colour (RGB hex, opacity)."""

    name: str
    shape: TopoDS_Shape
    colour: str
    opacity: float = 1.0


@dataclass
class Group:
    """An assembly: named, with placed members (the same member may appear many times)."""

    name: str
    members: list[tuple[str, Solid | Group, gp_Trsf]] = field(default_factory=list)

    def add(self, member: Solid | Group, at: gp_Trsf | Vector = (0, 0, 0), name: str = "") -> Group:
        """Place a member; returns self."""
        self.members.append((name or member.name, member, at if isinstance(at, gp_Trsf) else move(at)))
        return self

    def count(self) -> int:
        """How many solids the assembly places."""
        return sum(m.count() if isinstance(m, Group) else 1 for _, m, _ in self.members)


def write_step(group: Group, target: Path) -> None:
    """Write an assembly as STEP AP242 with names, colours and shared instances."""
    document = TDocStd_Document(TCollection_ExtendedString("XmlXCAF"))
    shapes = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    colours = XCAFDoc_DocumentTool.ColorTool_s(document.Main())
    done: dict[int, TDF_Label] = {}

    def name_label(label: TDF_Label, name: str) -> None:
        TDataStd_Name.Set_s(label, TCollection_ExtendedString(name))

    def label_of(item: Solid | Group) -> TDF_Label:
        if id(item) in done:
            return done[id(item)]
        if isinstance(item, Solid):
            label = shapes.AddShape(item.shape, False)
            rgb = [int(item.colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
            colour = Quantity_ColorRGBA(Quantity_Color(*rgb, Quantity_TOC_sRGB), item.opacity)
            colours.SetColor(label, colour, XCAFDoc_ColorSurf)
        else:
            label = shapes.NewShape()
            for name, member, place in item.members:
                component = shapes.AddComponent(label, label_of(member), TopLoc_Location(place))
                name_label(component, name)
        name_label(label, item.name)
        done[id(item)] = label
        return label

    label_of(group)
    shapes.UpdateAssemblies()
    Interface_Static.SetCVal_s("write.step.schema", "AP242DIS")
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer = STEPCAFControl_Writer()
    writer.SetColorMode(True)
    writer.SetNameMode(True)
    writer.Transfer(document, STEPControl_AsIs)
    if writer.Write(str(target)) != IFSelect_RetDone:
        raise OSError(f"could not write {target}")
