"""The checks, in the order in which they are told."""

from __future__ import annotations

from fasciculum.checks.materials import plain_materials
from fasciculum.checks.missing_textures import missing_textures
from fasciculum.checks.scales import mirrored_scales
from fasciculum.checks.textures import odd_textures
from fasciculum.checks.uv_sets import lacking_uvs
from fasciculum.model.finding import Finding
from fasciculum.model.scene import Scene

SCENE_CHECKS = (missing_textures, odd_textures, lacking_uvs, mirrored_scales, plain_materials)


def check_scene(scene: Scene) -> tuple[Finding, ...]:
    """Run every check that needs nothing but the gathered scene."""
    return tuple(finding for check in SCENE_CHECKS for finding in check(scene))
