"""The use cases from a shell. Documented in docs/cli.md."""

from __future__ import annotations

VERBS = {
    "demo": "main:demo",
    "new": "building:new",
    "arrangements": "building:arrangements",
    "rig": "building:rig",
    "instrument": "building:instrument",
    "import": "building:import_files",
    "record": "recording:record",
    "reamp": "reamping:reamp",
    "reference": "passes:reference",
    "export": "passes:export",
    "cabinet": "passes:cabinet",
    "guide": "passes:guide",
    "loopcheck": "passes:loopcheck",
    "reamp-file": "reamping:reamp_file_command",
    "align": "main:align",
    "match": "main:match",
    "compare": "comparing:compare",
    "double": "comparing:double",
    "blind": "comparing:blind",
    "lowcut": "comparing:lowcut",
    "sheet": "sheets:sheet",
    "measure": "inspecting:measure",
    "tune": "inspecting:tune",
    "noise": "inspecting:noise",
    "loading": "instruments:loading",
    "strength": "instruments:strength",
    "trims": "instruments:trims",
    "tones": "tones:tones",
    "check": "rig:check",
    "courses": "rig:courses",
    "levels": "levels:levels",
    "ways": "ways:ways",
    "render": "rig:render",
    "devices": "devices:devices",
    "roundtrip": "devices:roundtrip",
    "schema": "main:schema",
}
"""Every verb of the shell and the function in this room that answers it. Names only: whoever
asks which verbs there are (`__main__`) imports none of them."""
