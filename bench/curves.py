"""Evaluating 100 000 stations against SciPy's own evaluation of as many parameters."""

import numpy as np

from bench.demo import PROJECT
from kestrav.core.files import project_file
from kestrav.core.geometry.curves import Spline
from kestrav.core.paths.path_curves import path_curve


def stations_against_spline(in_turns):
    path = project_file.load(PROJECT).project.paths[0]
    curve = path_curve(path).curve
    assert isinstance(curve.shape, Spline)
    spline = curve.shape.polynomial
    stations = np.linspace(0, curve.length, 100_000)
    parameters = curve.parameter(stations)
    ours, bare = in_turns(lambda: curve.position(stations), lambda: spline(parameters), 15)
    return (
        f"1e5 stations of a path: {1000 * ours:.1f} ms against {1000 * bare:.1f} ms of scipy's spline at as many "
        f"parameters: {ours / bare:.2f} times its time (at most 3)",
        ours / bare <= 3,
    )
