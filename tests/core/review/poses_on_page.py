"""How far parts on a review page are from where the project has them."""

import numpy as np
from scipy.spatial.transform import Rotation

from kestrav.core.kinematics.poses import world_poses

PLACE, TURN = 0.01, 0.01  # mm and degrees that are promised


def off(project, page, moments):
    """How far in mm and degrees parts are off on a page at most, at their origins and at corners of what they are made of."""
    poses = world_poses(project, moments)
    ids = page.evaluate("review.project.scene.parts.map(one => one.id)")
    rows = {part.id: k for k, part in enumerate(project.parts)}
    theirs = np.array(page.evaluate("times => times.map(t => review.poses(t))", moments.tolist())).reshape(
        len(moments), len(ids), 4, 4
    )
    mine = poses[:, [rows[i] for i in ids]]
    far = np.linalg.norm(theirs[..., :3, 3] - mine[..., :3, 3], axis=-1).max()
    turn = Rotation.from_matrix((np.swapaxes(theirs[..., :3, :3], -1, -2) @ mine[..., :3, :3]).reshape(-1, 3, 3))
    return float(far), float(np.degrees(turn.magnitude().max()))
