"""What hangs on a document and is kept in it, worked out anew at one place and in one order.

Samples of paths on surfaces, outlines that orbits go around, heights of the ground, times of contacts, and the normals that balls roll on
are results that a project holds. Whoever edits it (the window, the command line, a fix that is tried) or brings it in from a file has them
renewed here: each hangs on those before it, as paths on where parts stand, contacts on how things move, and balls on both.
"""

from __future__ import annotations

from collections.abc import Mapping

from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh

RULES = 1  # counts on when any of these results is worked out otherwise than before

_fresh: list[Project] = []
_REMEMBERED = 8


def derived(project: Project, meshes: Mapping[str, Mesh], since: Project | None = None) -> Project:
    """The project with all that is worked out of it as it is now; what was so ``since`` and hangs on the same is left as it was.

    Raises BadInput where an edit leaves something that cannot be worked out.
    """
    if is_derived(project):
        return project
    # loaded here, as a project that is only read from a file that holds all this needs none of it
    from kestrav.core.camera.orbits import derive_orbits
    from kestrav.core.clearance.ball_ground import derive_ball_ground
    from kestrav.core.clearance.triggers import derive_contact_triggers
    from kestrav.core.editing.grounding import derive_ground
    from kestrav.core.paths.surface_paths import derive_surface_paths

    edited = derive_surface_paths(project, since)
    edited = derive_orbits(edited, meshes, since)
    edited = derive_ground(edited, meshes, since)
    edited = derive_contact_triggers(edited, meshes)
    edited = derive_ball_ground(edited, meshes)
    _fresh.append(edited)
    del _fresh[:-_REMEMBERED]
    return edited


def is_derived(project: Project) -> bool:
    """Whether a project, by identity, is one of those that were worked out last."""
    return any(project is known for known in _fresh)


def taken_as_derived(project: Project) -> Project:
    """A project that is known to be as it was when it was worked out: it comes whole from a file that says so."""
    _fresh.append(project)
    del _fresh[:-_REMEMBERED]
    return project
