"""Actions as data: menus, shortcuts and the key help are made from this one table."""

from __future__ import annotations

from collections.abc import Iterable

from diaulos.app.view_table import ViewRow
from diaulos.records import dataclass


@dataclass(frozen=True)
class ActionSpec:
    """One action. `call` names a method of the window, the desk or, with `view`, of that view,
    which must be on screen then; `menu` may be a menu in a menu (RANGE); `when` says what must
    be so: "" always, "open" a session, "write" a writable one, "idle" and no job besides. Views
    may share a key."""

    ident: str
    title: str
    menu: str
    key: str
    call: str
    when: str = "open"
    separator: bool = False
    view: str = ""
    show: str = ""
    """The view that it shows."""
    also: str = ""
    """Another key: the same one without Shift on many keyboards."""


RANGE, TOOLS, LISTEN, TAKE = (
    f"Recording > {name}" for name in ("Range", "Tools", "Listen", "Take")
)
PART = "Take > Part"
HEAR = "Compare > Hear"
"""Menus in a menu: all of it would be higher than a screen."""

ACTIONS: tuple[ActionSpec, ...] = (
    ActionSpec("new", "&New session\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+N", "new_session", ""),
    ActionSpec("open", "&Open\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+O", "ask_open", ""),
    ActionSpec("demo", "Open the &demo", "File", "", "open_demo_session", ""),
    ActionSpec("close_session", "&Close session", "File", "Ctrl+W", "close_session", "open"),
    ActionSpec("save", "&Save", "File", "Ctrl+S", "save", "write", True),
    ActionSpec(
        "save_as", "Save &as\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+Shift+S", "ask_save_as", "open"
    ),
    ActionSpec(
        "import", "&Import DI\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+I", "ask_import", "idle", True
    ),
    ActionSpec("import_take", "Import &files as a take…", "File", "Ctrl+Shift+I",
               "ask_import_take", "idle"),
    ActionSpec(
        "export", "&Export pass\N{HORIZONTAL ELLIPSIS}", "File", "E", "ask_export", "open",
        view="reamp",
    ),
    ActionSpec("unpack", "Open a &packed session\N{HORIZONTAL ELLIPSIS}", "File", "", "ask_unpack",
               ""),
    ActionSpec("gear", "Own &gear\N{HORIZONTAL ELLIPSIS}", "File", "Ctrl+L", "ask_gear", "open"),
    ActionSpec("months", "Over &months\N{HORIZONTAL ELLIPSIS}", "File", "", "ask_months", "open"),
    ActionSpec("recover", "Reco&ver recordings\N{HORIZONTAL ELLIPSIS}", "File", "", "ask_recover",
               "idle"),
    ActionSpec("quit", "&Quit", "File", "Ctrl+Q", "close", "", True),
    ActionSpec("undo", "&Undo", "Edit", "Ctrl+Z", "undo", "write"),
    ActionSpec("redo", "&Redo", "Edit", "Ctrl+Shift+Z", "redo", "write"),
    ActionSpec("rename", "Re&name pass\N{HORIZONTAL ELLIPSIS}", "Edit", "F2", "rename", "write",
               True, "reamp"),
    ActionSpec("keep", "&Keep pass", "Edit", "K", "keep", "write", view="reamp"),
    ActionSpec("discard", "&Discard pass", "Edit", "Del", "discard", "write", view="reamp"),
    ActionSpec("restore", "Restore &last discarded", "Edit", "Ctrl+Shift+Del", "restore", "write"),
    ActionSpec("empty_bin", "Empty &bin\N{HORIZONTAL ELLIPSIS}", "Edit", "", "empty_bin", "write"),
    ActionSpec("practices", "&House practices\N{HORIZONTAL ELLIPSIS}", "Edit", "", "ask_practices",
               "open", True),
    ActionSpec("preferences", "&Preferences\N{HORIZONTAL ELLIPSIS}", "Edit", "Ctrl+,",
               "show_preferences", "", True),
    ActionSpec("night", "&Night look", "View", "Ctrl+Shift+N", "toggle_look", ""),
    ActionSpec("larger", "&Larger text", "View", "Ctrl++", "larger_text", "", True,
               also="Ctrl+="),
    ActionSpec("smaller", "&Smaller text", "View", "Ctrl+-", "smaller_text", ""),
    ActionSpec("usual", "&Usual text", "View", "Ctrl+0", "usual_text", ""),
    ActionSpec("copy_image", "Copy plot as &image", "View", "Ctrl+Shift+C", "copy_image", "open",
               True),
    ActionSpec("copy_csv", "Copy plot as &CSV", "View", "Ctrl+Alt+C", "copy_csv", "open"),
    ActionSpec("add_instrument", "&Add instrument", "Instrument", "Ctrl+Shift+A", "add_instrument",
               "write", view="instruments"),
    ActionSpec("duplicate_instrument", "D&uplicate", "Instrument", "Ctrl+D", "duplicate_instrument",
               "write", view="instruments"),
    ActionSpec("remove_instrument", "&Remove", "Instrument", "Ctrl+Del", "remove_instrument",
               "write", view="instruments"),
    ActionSpec("loading_page", "&Loading", "Instrument", "1", "show_loading", "open", True,
               "instruments"),
    ActionSpec("trims_page", "Strength and &trims", "Instrument", "2", "show_trims", "open",
               view="instruments"),
    ActionSpec("drive_page", "&Pad and tone", "Instrument", "3", "show_drive", "open",
               view="instruments"),
    ActionSpec("measure", "&Measure strength\N{HORIZONTAL ELLIPSIS}", "Instrument", "M",
               "ask_measure", "idle", True, "instruments"),
    ActionSpec("strum", "Measure a stru&m", "Instrument", "B", "measure_on_bench", "idle",
               view="instruments"),
    ActionSpec("identify", "&Identify the pickup\N{HORIZONTAL ELLIPSIS}", "Instrument", "I",
               "ask_identify", "idle", view="instruments"),
    ActionSpec("by_resistor", "Measure by a &resistor\N{HORIZONTAL ELLIPSIS}", "Instrument",
               "Shift+I", "ask_by_resistor", "idle", view="instruments"),
    ActionSpec("solve_trims", "&Calculate trims", "Instrument", "T", "solve_trims", "write",
               view="instruments"),
    ActionSpec("make_up", "Measure make-&up", "Instrument", "U", "measure_make_up", "idle",
               view="instruments"),
    ActionSpec("arrangement", "Add an &arrangement\N{HORIZONTAL ELLIPSIS}", "Rig", "N",
               "ask_arrangement", "write", view="rig"),
    ActionSpec("device", "Add a &device\N{HORIZONTAL ELLIPSIS}", "Rig", "D", "ask_device", "write",
               view="rig"),
    ActionSpec("remove_device", "&Remove the device", "Rig", "Del", "remove_device", "write",
               view="rig"),
    ActionSpec("sockets", "Which soc&ket is which\N{HORIZONTAL ELLIPSIS}", "Rig", "Ctrl+K",
               "ask_sockets", "idle", True),
    ActionSpec("findings_page", "&Findings", "Rig", "1", "show_findings_page", "open", True, "rig"),
    ActionSpec("tracks_page", "&Tracks", "Rig", "2", "show_tracks_page", "open", view="rig"),
    ActionSpec("patch_page", "&Patch list", "Rig", "3", "show_patch_page", "open", view="rig"),
    ActionSpec("monitor_page", "&Monitoring", "Rig", "4", "show_monitor_page", "open", view="rig"),
    ActionSpec("show_finding", "&Show the finding", "Rig", "S", "show_chosen_finding", "open", True,
               "rig"),
    ActionSpec("mend", "Apply the remed&y", "Rig", "A", "mend_chosen", "write", view="rig"),
    ActionSpec("plan_tracks", "Plan tracks as p&lugged", "Rig", "T", "plan_tracks", "write",
               view="rig"),
    ActionSpec("ways", "&Ways into the input\N{HORIZONTAL ELLIPSIS}", "Rig", "W", "ask_ways",
               "idle", view="rig"),
    ActionSpec("play_rig", "Play the ri&g\N{HORIZONTAL ELLIPSIS}", "Rig", "R", "play_rig", "idle",
               view="rig"),
    ActionSpec("zoom_in", "Zoom &in", "Rig", "+", "zoom_in", "open", True, "rig", also="="),
    ActionSpec("zoom_out", "Zoom &out", "Rig", "-", "zoom_out", "open", view="rig"),
    ActionSpec("zoom_fit", "Zoom to fi&t", "Rig", "0", "zoom_fit", "open", view="rig"),
    ActionSpec("set_gains", "&Set what the verdict says", "Levels", "G", "set_gains", "write",
               view="levels"),
    ActionSpec("set_all", "Set &all courses", "Levels", "Shift+G", "set_all", "idle",
               view="levels"),
    ActionSpec("set_second", "Set the second &best", "Levels", "Ctrl+G", "set_second", "write",
               view="levels"),
    ActionSpec("lock", "&Lock the control", "Levels", "L", "toggle_lock", "write", view="levels"),
    ActionSpec("verdict_page", "&Verdict", "Levels", "1", "show_verdict_page", "open", True,
               "levels"),
    ActionSpec("noise_page", "&Noise", "Levels", "2", "show_noise_page", "open", view="levels"),
    ActionSpec("check_page", "Sound &check", "Levels", "3", "show_check_page", "open",
               view="levels"),
    ActionSpec("check_bench", "Sound chec&k: ten seconds", "Levels", "B", "check_bench", "idle",
               True, "levels"),
    ActionSpec("check_file", "Sound check from a &file…", "Levels", "F",
               "ask_check_file", "idle", view="levels"),
    ActionSpec("calibrate", "Ca&librate…", "Levels", "C", "ask_calibrate",
               "idle", view="levels"),
    ActionSpec("distance", "&Large display", "Levels", "V", "toggle_distance", "open", True,
               "levels"),
    ActionSpec("record", "&Record or stop", "Recording", "Space", "toggle_record", "write",
               view="takes"),
    ActionSpec("again", "&Again", "Recording", "A", "again", "write", view="takes"),
    ActionSpec("mark", "&Mark this moment", "Recording", "M", "mark", "write", view="takes"),
    ActionSpec("next_way", "Recording &mode", "Recording", "W", "next_way", "open",
               view="takes"),
    ActionSpec("arm_all", "Arm all as &planned", "Recording", "Alt+0", "arm_all", "write",
               view="takes"),
    ActionSpec("arm_none", "Arm n&one", "Recording", "Alt+Backspace", "arm_none", "write",
               view="takes"),
    ActionSpec("mark_in", "Range &begins here", RANGE, "I", "mark_in", "open", view="takes"),
    ActionSpec("mark_out", "Range &ends here", RANGE, "O", "mark_out", "open", view="takes"),
    ActionSpec("mark_in_exactly", "Range begins exactly here", RANGE, "Shift+I",
               "mark_in_exactly", "open", view="takes"),
    ActionSpec("mark_out_exactly", "Range ends exactly here", RANGE, "Shift+O",
               "mark_out_exactly", "open", view="takes"),
    ActionSpec("clear_range", "No range", RANGE, "Backspace", "clear_range", "open",
               view="takes"),
    ActionSpec("tuner", "&Tuner", TOOLS, "T", "toggle_tuner", "open", view="takes"),
    ActionSpec("intonation", "Intonation chec&k", TOOLS, "F", "toggle_check", "open",
               view="takes"),
    ActionSpec("noise_check", "Noise &check", TOOLS, "S", "toggle_noise", "open",
               view="takes"),
    ActionSpec("listen", "&Measure noise", TOOLS, "H", "listen", "open", view="takes"),
    ActionSpec("noise_hunt", "&Find a noise's cause", TOOLS, "Q", "toggle_hunt", "open",
               view="takes"),
    ActionSpec("hear_live", "Hear it li&ve", TOOLS, "Y", "hear_live", "open", view="takes"),
    ActionSpec("mix", "Monitor mi&x", TOOLS, "X", "toggle_mix", "open", view="takes"),
    ActionSpec("cabinets", "Cabinet &later", TOOLS, "Z", "toggle_cabinets", "open", view="takes"),
    ActionSpec("far", "&Large display", TOOLS, "V", "toggle_far", "open", view="takes"),
    ActionSpec("play_take", "&Play or pause", LISTEN, "P", "toggle_play", "open",
               view="takes"),
    ActionSpec("other_take", "Back to the take be&fore", LISTEN, "J", "other_take", "open",
               view="takes"),
    ActionSpec("loop_take", "&Loop", LISTEN, "L", "toggle_loop", "open", view="takes"),
    *(
        ActionSpec(f"hear_{n}", f"Track or string &{n} alone" if n else "All tracks (&0)",
                   LISTEN, str(n), f"hear_{n}", "open", view="takes")
        for n in range(10)
    ),
    ActionSpec("keep_take", "&Keep", TAKE, "K", "keep", "write", view="takes"),
    ActionSpec("rate_take", "Ra&te", TAKE, "R", "rate_up", "write", view="takes"),
    ActionSpec("rename_take", "Re&name…", TAKE, "F2", "rename",
               "write", view="takes"),
    ActionSpec("note_take", "N&otes…", TAKE, "N", "ask_notes", "write",
               view="takes"),
    ActionSpec("tag_take", "Ta&gs…", TAKE, "G", "ask_tags", "write",
               view="takes"),
    ActionSpec("cut_take", "Cut to &bars\N{HORIZONTAL ELLIPSIS}", TAKE, "B", "ask_cut",
               "write", view="takes"),
    ActionSpec("recall", "Re&call its settings", TAKE, "C", "recall", "write",
               view="takes"),
    ActionSpec("heard_gain", "Set the &gain for what was heard", TAKE, "E",
               "set_heard_gain", "idle", view="takes"),
    ActionSpec("export_track", "E&xport track\N{HORIZONTAL ELLIPSIS}", TAKE, "",
               "ask_export_track", "open", view="takes"),
    ActionSpec("discard_take", "&Discard", TAKE, "Del", "discard", "write", view="takes"),
    ActionSpec("take_bin", "The &bin", TAKE, "D", "toggle_bin", "open", view="takes"),
    ActionSpec("restore_take", "Restore from the bin", TAKE, "U", "restore_chosen",
               "write", view="takes"),
    ActionSpec("reamp", "&Reamp the take", "Take", "R", "reamp", "write", view="reamp"),
    ActionSpec("recall_pass", "Set rig as in this &pass", "Take", "", "recall_pass", "write",
               view="reamp"),
    ActionSpec("differs", "&What differs\N{HORIZONTAL ELLIPSIS}", "Take", "", "ask_differs", "open",
               view="reamp"),
    ActionSpec("part_in", "Part &begins here", PART, "I", "mark_in", "open", view="reamp"),
    ActionSpec("part_out", "Part &ends here", PART, "O", "mark_out", "open", view="reamp"),
    ActionSpec("part_in_exactly", "Part begins exactly here", PART, "Shift+I",
               "mark_in_exactly", "open", view="reamp"),
    ActionSpec("part_out_exactly", "Part ends exactly here", PART, "Shift+O",
               "mark_out_exactly", "open", view="reamp"),
    ActionSpec("whole_take", "&Whole take", PART, "Backspace", "clear_range", "open",
               view="reamp"),
    ActionSpec("loop_check", "&Check the loop", "Take", "C", "check_loop", "idle", view="reamp"),
    ActionSpec("cabinet_later", "Cabinet &later", "Take", "Z", "toggle_cabinets", "open",
               view="reamp"),
    ActionSpec("guide", "Ho&w to set up", "Take", "W", "toggle_guide", "open", view="reamp"),
    ActionSpec("go_round", "&Go round", "Take", "G", "toggle_round", "open", view="reamp"),
    ActionSpec("hold_moment", "&Hold as the reference", "Take", "H", "hold_moment", "open",
               view="reamp"),
    ActionSpec("compare_round", "Compare with the reference", "Take", "J", "compare_running",
               "open", view="reamp"),
    ActionSpec("print_pass", "Print a pass of the round", "Take", "P", "print_pass", "write",
               view="reamp"),
    ActionSpec("in_a_row", "To&nes in a row", "Take", "Q", "toggle_queue", "open", view="reamp"),
    ActionSpec("reference", "In &time with\N{HORIZONTAL ELLIPSIS}", "Take", "T", "ask_reference",
               "idle", view="reamp"),
    ActionSpec("match", "&Match again", "Take", "M", "match_again", "idle", view="reamp"),
    ActionSpec("store_unloaded", "Store &compensated", "Take", "Ctrl+U", "store_unloaded",
               "idle", view="reamp"),
    ActionSpec("cancel", "&Cancel", "Take", "Esc", "cancel", ""),
    ActionSpec("play", "&Play or pause", "Take", "Space", "toggle_play", "open", True, "reamp"),
    ActionSpec("hear_di", "Hear the &DI", "Take", "1", "hear_di", "open", view="reamp"),
    ActionSpec("hear_reference", "Hear the re&ference", "Take", "2", "hear_reference", "open",
               view="reamp"),
    ActionSpec("hear_pass", "Hear the p&ass", "Take", "3", "hear_pass", "open", view="reamp"),
    ActionSpec("loop", "&Loop what is shown", "Take", "L", "toggle_loop", "open", view="reamp"),
    ActionSpec("add_candidate", "&Add\N{HORIZONTAL ELLIPSIS}", "Compare", "A", "ask_candidates",
               "open", view="compare"),
    ActionSpec("take_out", "Take &out", "Compare", "Del", "take_out", "open", view="compare"),
    ActionSpec("make_reference", "Make it the &reference", "Compare", "R", "make_reference", "open",
               view="compare"),
    ActionSpec("move_into_time", "&Move into time", "Compare", "M", "move_into_time", "write", True,
               "compare"),
    ActionSpec("turn_over", "Turn &polarity", "Compare", "P", "turn_over", "write", view="compare"),
    ActionSpec("low_cut", "Low &cut\N{HORIZONTAL ELLIPSIS}", "Compare", "C", "ask_low_cut", "idle",
               view="compare"),
    ActionSpec("gate", "&Gate\N{HORIZONTAL ELLIPSIS}", "Compare", "D", "ask_gate", "idle",
               view="compare"),
    ActionSpec("next_curve", "Next &curve", "Compare", "T", "next_curve", "open", view="compare"),
    ActionSpec("next_page", "Next &question", "Compare", "Q", "next_page", "open", view="compare"),
    ActionSpec("note_verdict", "&Note the verdict", "Compare", "N", "note_verdict", "write",
               view="compare"),
    ActionSpec("pan_apart", "Pan them apart", "Compare", "W", "pan_apart", "write",
               view="compare"),
    ActionSpec("compare_play", "P&lay or pause", "Compare", "Space", "toggle_play", "open", True,
               "compare"),
    ActionSpec("compare_loop", "Loop &ten seconds", "Compare", "L", "toggle_loop", "open",
               view="compare"),
    ActionSpec("together", "Hear to&gether", "Compare", "G", "toggle_together", "open",
               view="compare"),
    ActionSpec("unnamed", "&Unnamed", "Compare", "U", "toggle_unnamed", "open", view="compare"),
    ActionSpec("blind_test", "&Blind test\N{HORIZONTAL ELLIPSIS}", "Compare", "B", "blind_test",
               "open", view="compare"),
    ActionSpec("export_blind", "&Export blind test\N{HORIZONTAL ELLIPSIS}", "Compare", "E",
               "ask_export", "open", view="compare"),
    *(
        ActionSpec(f"candidate_{place}", f"Hear candidate &{place}", HEAR, str(place),
                   f"hear_{place}", "open", view="compare")
        for place in range(1, 10)
    ),
    ActionSpec("export_sheet", "&Export the sheet\N{HORIZONTAL ELLIPSIS}", "Sheets", "E",
               "ask_export", "open", True, "sheets"),
    ActionSpec("print_sheet", "&Print the sheet\N{HORIZONTAL ELLIPSIS}", "Sheets", "Ctrl+P",
               "ask_print", "open", view="sheets"),
    ActionSpec("stems", "&Stems\N{HORIZONTAL ELLIPSIS}", "Sheets", "S", "ask_stems", "idle", True,
               "sheets"),
    ActionSpec("hand_over", "&Hand over\N{HORIZONTAL ELLIPSIS}", "Sheets", "H", "ask_hand_over",
               "idle", view="sheets"),
    ActionSpec("manual", "&Manual", "Help", "Ctrl+F1", "show_manual", ""),
    ActionSpec("keys", "&Keys", "Help", "F1", "show_keys", ""),
    ActionSpec("trainer", "&Trainer\N{HORIZONTAL ELLIPSIS}", "Help", "Ctrl+T", "ask_trainer",
               "open"),
    ActionSpec("glossary", "&Words and units", "Help", "", "show_glossary", ""),
    ActionSpec("safety", "&Safety notices", "Help", "", "show_safety", ""),
    ActionSpec("about", "&About Diaulos", "Help", "", "show_about", "", True),
)  # fmt: skip


def with_views(actions: tuple[ActionSpec, ...], views: Iterable[ViewRow]) -> tuple[ActionSpec, ...]:
    """The actions with one for each view, at the head of the menu View."""
    shown = tuple(
        ActionSpec(
            f"{row.ident}_view", f"&{row.title}", "View", row.key, "", "open", show=row.ident
        )
        for row in views
    )
    at = next(i for i, action in enumerate(actions) if action.menu == "View")
    return (*actions[:at], *shown, *actions[at:])


def keys_html(actions: tuple[ActionSpec, ...] = ACTIONS) -> str:
    """The key help."""
    menus: dict[str, list[ActionSpec]] = {}
    for action in actions:
        if action.key:
            menus.setdefault(action.menu, []).append(action)
    parts = []
    for menu, ours in menus.items():
        rows = "".join(
            f"<tr><td width='130'><code>{a.key}</code></td><td>{a.title.replace('&', '')}</td></tr>"
            for a in ours
        )
        name = menu.replace(" > ", ", ").capitalize()
        parts.append(f"<h3>{name}</h3><table cellspacing='6'>{rows}</table>")
    extra = (
        "<h3>Waveform</h3><table cellspacing='6'>"
        "<tr><td width='130'><code>+ \N{MINUS SIGN}</code></td><td>Zoom</td></tr>"
        "<tr><td><code>Left Right</code></td><td>Move</td></tr>"
        "<tr><td><code>0</code></td><td>Show all</td></tr></table>"
        "<h3>Loading plot</h3><table cellspacing='6'>"
        "<tr><td width='130'><code>Left Right</code></td><td>Move the cursor</td></tr></table>"
    )
    return "".join(parts) + extra
