"""What plays files that Kestrav hands on, by their specifications and with other libraries alone."""

import json
import struct

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

Y_UP = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])


class Player:
    """Plays a GLB as its specification says, by NumPy and SciPy alone."""

    def __init__(self, data):
        length = struct.unpack_from("<I", data, 12)[0]
        self.json = json.loads(data[20 : 20 + length])
        self.binary = data[20 + length + 8 :]
        self.channels = {}
        for animation in self.json.get("animations", []):
            for channel in animation["channels"]:
                sampler = animation["samplers"][channel["sampler"]]
                target = channel["target"]
                self.channels[target["node"], target["path"]] = (
                    self.array(sampler["input"]),
                    self.array(sampler["output"]),
                    sampler["interpolation"],
                )
        self.parent = {c: k for k, node in enumerate(self.json["nodes"]) for c in node.get("children", [])}

    def array(self, number):
        accessor = self.json["accessors"][number]
        view = self.json["bufferViews"][accessor["bufferView"]]
        width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[accessor["type"]]
        kind = {5126: "<f4", 5125: "<u4"}[accessor["componentType"]]
        found = np.frombuffer(self.binary, kind, accessor["count"] * width, view["byteOffset"])
        return found.reshape(-1, width).astype(float) if width > 1 else found.astype(float)

    def local(self, number, moments):
        node, count = self.json["nodes"][number], len(moments)
        place = np.tile(node.get("translation", [0.0, 0, 0]), (count, 1))
        turn = Rotation.from_quat(np.tile(node.get("rotation", [0.0, 0, 0, 1]), (count, 1)))
        for path in ("translation", "rotation"):
            if (number, path) not in self.channels:
                continue
            times, values, how = self.channels[number, path]
            at = np.clip(moments, times[0], times[-1])
            if how == "STEP" or len(times) == 1:
                held = values[np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 1)]
                place, turn = (held, turn) if path == "translation" else (place, Rotation.from_quat(held))
            elif path == "translation":
                place = np.column_stack([np.interp(at, times, column) for column in values.T])
            else:
                turn = Slerp(times, Rotation.from_quat(values))(at)
        matrices = np.tile(np.eye(4), (count, 1, 1))
        matrices[:, :3, :3], matrices[:, :3, 3] = turn.as_matrix(), place
        return matrices

    def poses(self, number, moments):
        """A node's poses (n, 4, 4) in space in mm, Z up."""
        matrices = self.local(number, moments)
        while number in self.parent:
            number = self.parent[number]
            matrices = self.local(number, moments) @ matrices
        found = matrices.copy()
        found[:, :3, :3], found[:, :3, 3] = Y_UP.T @ matrices[:, :3, :3], 1000 * matrices[:, :3, 3] @ Y_UP
        return found

    def pose(self, number, time):
        return self.poses(number, np.array([time]))[0]

    def named(self, name):
        return next(k for k, node in enumerate(self.json["nodes"]) if node["name"] == name)
