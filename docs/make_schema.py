"""Puts docs/profile.schema.json together from the schema of what every protocol has and those of the protocols' tables.

Run it after a change to one of them.
"""

from __future__ import annotations

import json
from importlib.resources import files
from pathlib import Path

from zesty_burrow.protocols import registry

HERE = Path(__file__).parent


def schema() -> str:
    """The whole schema."""
    whole = json.loads(files("zesty_burrow.profiles").joinpath("profile.schema.json").read_text())
    for name in registry.names():
        part = json.loads(files(registry.package(name)).joinpath("settings.schema.json").read_text())
        whole["properties"][name] = part["table"]
        known = whole["properties"]["sign_in"]["properties"]
        for key, row in part["sign_in"].items():
            before = known.get(key, {}).get("enum", [])
            known[key] = {"enum": list(dict.fromkeys([*before, *row["enum"]]))}
        whole["$defs"] |= part["$defs"]
    return json.dumps(whole, indent=2) + "\n"


if __name__ == "__main__":
    (HERE / "profile.schema.json").write_text(schema(), encoding="utf-8")
