"""A glTF file with pictures on its surfaces, as other programs write them."""

import numpy as np
import trimesh
from PIL import Image

# the quarters of a picture, from its upper left to its lower right
QUARTERS = ((220, 40, 40), (40, 200, 60), (40, 60, 220), (230, 220, 60))


def quarters(size=64, mode="RGB"):
    """A picture of four colours."""
    made = np.zeros((size, size, 3), np.uint8)
    half = size // 2
    for k, colour in enumerate(QUARTERS):
        row, column = divmod(k, 2)
        made[row * half : (row + 1) * half, column * half : (column + 1) * half] = colour
    return Image.fromarray(made).convert(mode)


def wavy(size=64):
    """Normals that lean to the right on the left half and to the left on the right half."""
    bank = np.where(np.arange(size) < size / 2, 0.5, -0.5)
    made = np.zeros((size, size, 3))
    made[..., 0], made[..., 2] = bank, np.sqrt(0.75)
    return Image.fromarray(np.rint(127.5 + 127.5 * made).astype(np.uint8))


def parts(size=64):
    """Roughness that grows to the right, metal above, occlusion everywhere none."""
    made = np.full((size, size, 3), 255, np.uint8)
    made[..., 1] = np.linspace(40, 240, size).astype(np.uint8)
    made[: size // 2, :, 2], made[size // 2 :, :, 2] = 255, 0
    return Image.fromarray(made)


def plate(folder, mirrored=False, **material):
    """A plate 1 m wide and high that stands upright, seen from -y (Z up), whose picture is as it is looked at, or ``mirrored``; returns the file."""
    looks = {"baseColorTexture": quarters(), "metallicFactor": 0.0, "roughnessFactor": 1.0} | material
    corners = np.array([[-0.5, 0, 0], [0.5, 0, 0], [0.5, 1, 0], [-0.5, 1, 0]], float)
    left, right = (1, 0) if mirrored else (0, 1)
    # trimesh turns the places on pictures over, so that v goes upwards here
    visual = trimesh.visual.TextureVisuals(
        uv=np.array([[left, 0], [right, 0], [right, 1], [left, 1]], float),
        material=trimesh.visual.material.PBRMaterial(name="Printed", **looks),
    )
    body = trimesh.Trimesh(corners, [[0, 1, 2], [0, 2, 3]], visual=visual, process=False)
    scene = trimesh.Scene()
    scene.add_geometry(body, node_name="Plate")
    file = folder / "plate.glb"
    scene.export(str(file))
    return file
