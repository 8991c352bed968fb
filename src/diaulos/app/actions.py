"""Actions as data: menus, shortcuts and the key help are made from this one table."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class ActionSpec:
    """One action. `call` names a method of the window; `when` what must be so:
    "" always, "open" a session, "write" a writable one, "idle" and no job besides."""

    ident: str
    title: str
    menu: str
    key: str
    call: str
    when: str = "open"
    separator: bool = False


ACTIONS: tuple[ActionSpec, ...] = (
    ActionSpec("new", "&New session\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+N", "new_session", ""),
    ActionSpec("open", "&Open\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+O", "ask_open", ""),
    ActionSpec("save", "&Save", "File", "Ctrl+S", "save", "write", True),
    ActionSpec(
        "save_as", "Save &as\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+Shift+S", "ask_save_as", "open"
    ),
    ActionSpec(
        "import", "&Import DI\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+I", "ask_import", "idle", True
    ),
    ActionSpec("export", "&Export pass\N{HORIZONTAL ELLIPSIS}", "File", "E", "export", "open"),
    ActionSpec("quit", "&Quit", "File", "Ctrl+Q", "close", "", True),
    ActionSpec("undo", "&Undo", "Edit", "Ctrl+Z", "undo", "write"),
    ActionSpec("redo", "&Redo", "Edit", "Ctrl+Shift+Z", "redo", "write"),
    ActionSpec(
        "rename", "Re&name pass\N{HORIZONTAL ELLIPSIS}", "Edit", "F2", "rename", "write", True
    ),
    ActionSpec("keep", "&Keep pass", "Edit", "K", "keep", "write"),
    ActionSpec("discard", "&Discard pass", "Edit", "Del", "discard", "write"),
    ActionSpec("restore", "Restore &last discarded", "Edit", "Ctrl+Shift+Del", "restore", "write"),
    ActionSpec("empty_bin", "Empty &bin\N{HORIZONTAL ELLIPSIS}", "Edit", "", "empty_bin", "write"),
    ActionSpec("reamp_view", "&Reamp", "View", "Ctrl+5", "show_reamp", "open"),
    ActionSpec("night", "&Night look", "View", "Ctrl+Shift+N", "toggle_look", ""),
    ActionSpec(
        "copy_image", "Copy waveform as &image", "View", "Ctrl+Shift+C", "copy_image", "open", True
    ),
    ActionSpec("copy_csv", "Copy waveform as &CSV", "View", "Ctrl+Alt+C", "copy_csv", "open"),
    ActionSpec("reamp", "&Reamp the take", "Take", "R", "reamp", "idle"),
    ActionSpec("match", "&Match again", "Take", "M", "match_again", "idle"),
    ActionSpec("cancel", "&Cancel", "Take", "Esc", "cancel", "open"),
    ActionSpec("play", "&Play or pause", "Take", "Space", "toggle_play", "open", True),
    ActionSpec("hear_di", "Hear the &DI", "Take", "1", "hear_di", "open"),
    ActionSpec("hear_reference", "Hear the re&ference", "Take", "2", "hear_reference", "open"),
    ActionSpec("hear_pass", "Hear the p&ass", "Take", "3", "hear_pass", "open"),
    ActionSpec("loop", "&Loop what is shown", "Take", "L", "toggle_loop", "open"),
    ActionSpec("keys", "&Keys", "Help", "F1", "show_keys", ""),
    ActionSpec("safety", "&Safety notices", "Help", "", "show_safety", ""),
)


def keys_html() -> str:
    """The key help."""
    menus: dict[str, list[ActionSpec]] = {}
    for action in ACTIONS:
        if action.key:
            menus.setdefault(action.menu, []).append(action)
    parts = []
    for menu, actions in menus.items():
        rows = "".join(
            f"<tr><td><code>{a.key}</code></td><td>{a.title.replace('&', '')}</td></tr>"
            for a in actions
        )
        parts.append(f"<h3>{menu}</h3><table cellspacing='6'>{rows}</table>")
    extra = (
        "<h3>Waveform</h3><table cellspacing='6'>"
        "<tr><td><code>+ \N{MINUS SIGN}</code></td><td>Zoom</td></tr>"
        "<tr><td><code>Left Right</code></td><td>Move</td></tr>"
        "<tr><td><code>0</code></td><td>Show all</td></tr></table>"
    )
    return "".join(parts) + extra
