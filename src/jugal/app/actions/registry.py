"""Every action of the window, once: its words, its keys, where it applies. Menus, shortcuts and help come from here."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ActionSpec:
    """One action. ``place`` is where it applies, empty for everywhere."""

    ident: str
    text: str
    keys: str
    place: str = ""
    help: str = ""


ACTIONS: tuple[ActionSpec, ...] = (
    ActionSpec("go.intake", "Intake", "Ctrl+1", help="What to examine and what is protected"),
    ActionSpec("go.triage", "Triage", "Ctrl+2", help="The case's files"),
    ActionSpec("go.bench", "Bench", "Ctrl+3", help="One file"),
    ActionSpec("go.handover", "Handover", "Ctrl+4", help="What goes out"),
    ActionSpec("case.open", "Open or start a case…", "Ctrl+O"),
    ActionSpec("source.folder", "Add a folder…", "Ctrl+D", "intake"),
    ActionSpec("source.files", "Add single files…", "Ctrl+Shift+D", "intake"),
    ActionSpec("source.remove", "Take the chosen source out", "Del", "intake"),
    ActionSpec("run.start", "Examine", "Ctrl+Return", "", "Begin or go on with the run"),
    ActionSpec("run.pause", "Pause or go on", "Ctrl+P"),
    ActionSpec("run.stop", "Stop the run", "Ctrl+."),
    ActionSpec("triage.find", "Find by name", "Ctrl+F", "triage"),
    ActionSpec("triage.clear", "Show everything again", "Ctrl+Backspace", "triage"),
    ActionSpec("triage.sheet", "Pictures or rows", "Ctrl+G", "triage"),
    ActionSpec("triage.invert", "Turn the choice around", "Ctrl+I", "triage"),
    ActionSpec("triage.bench", "Take the chosen file to the bench", "Return", "triage"),
    ActionSpec("bench.next", "Next file shown in triage", "Ctrl+Down", "bench"),
    ActionSpec("bench.previous", "Previous file shown in triage", "Ctrl+Up", "bench"),
    ActionSpec("bench.repair", "Do the chosen repair", "Ctrl+R", "bench"),
    ActionSpec("bench.keep", "Keep this result", "Ctrl+K", "bench"),
    ActionSpec("bench.drop", "Drop this result", "Ctrl+Shift+K", "bench"),
    ActionSpec("bench.damage", "Show or hide the damage", "Ctrl+M", "bench"),
    ActionSpec("repair.all", "Repair all that is shown", "Ctrl+Shift+R", "triage"),
    ActionSpec("handover.target", "Choose the target folder…", "Ctrl+T", "handover"),
    ActionSpec("handover.deliver", "Deliver", "Ctrl+Shift+Return", "handover"),
    ActionSpec("handover.open", "Open the delivery folder", "Ctrl+Shift+O", "handover"),
    ActionSpec("view.theme", "Light or dark", "Ctrl+L"),
    ActionSpec("help.keys", "All actions and their keys", "F1"),
    ActionSpec("app.quit", "Quit", "Ctrl+Q"),
)


def by_ident(ident: str) -> ActionSpec:
    """The action of that name."""
    return next(a for a in ACTIONS if a.ident == ident)
