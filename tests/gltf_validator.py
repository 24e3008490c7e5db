"""Khronos' validator of glTF files."""

import json
import shutil
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
VALIDATOR = ROOT / ".third-party" / "gltf-validator"


def issues(data, folder):
    """What Khronos' validator says."""
    if shutil.which("node") is None or not (VALIDATOR / "node_modules").is_dir():
        pytest.skip("the glTF validator is not here; make dev fetches it from npm")
    file = folder / "made.glb"
    file.write_bytes(data)
    said = subprocess.run(
        ["node", str(ROOT / "tests" / "data" / "validate.js"), str(VALIDATOR), str(file)],
        capture_output=True,
        text=True,
        check=True,
    )
    return json.loads(said.stdout)
