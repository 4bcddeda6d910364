"""A script of somebody else's, for the type checker: what the API takes and returns, strictly typed."""

from typing import Any

import fasciculum as fa


def packed_and_made(model: str, folder: str) -> dict[str, Any]:
    """Pack a model step by step into a project, and make it in one pass; returns the report of the latter."""
    project: fa.Project = fa.lay_out(fa.bundle(fa.gather(model), "one"), size=128, seconds=0)
    fa.save(fa.check(fa.bake(project)), f"{folder}/a.fasc")
    return fa.make([model], out=f"{folder}/b", size=128, seconds=0)
