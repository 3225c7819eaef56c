"""Every action of the window, once: its words, its keys, where it applies. Menus, shortcuts and help come from here."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ActionSpec:
    """One action. ``place`` is where it applies, empty for everywhere; ``turns`` says that it is on or off."""

    ident: str
    text: str
    keys: str
    place: str = ""
    help: str = ""
    turns: bool = False


ACTIONS: tuple[ActionSpec, ...] = (
    ActionSpec("go.intake", "Intake", "Ctrl+1", help="What to examine and what is protected"),
    ActionSpec("go.triage", "Triage", "Ctrl+2", help="The case's files"),
    ActionSpec("go.bench", "Bench", "Ctrl+3", help="One file"),
    ActionSpec("go.handover", "Handover", "Ctrl+4", help="What goes out"),
    ActionSpec("case.open", "Open or start a case…", "Ctrl+O"),
    ActionSpec("source.folder", "Add a folder…", "Ctrl+D", "intake"),
    ActionSpec("source.files", "Add single files…", "Ctrl+Shift+D", "intake"),
    ActionSpec("source.donors", "Add a folder of donors…", "Ctrl+Alt+D", "intake"),
    ActionSpec("source.remove", "Take the chosen source out", "Del", "intake"),
    ActionSpec("source.undo", "Put the source back that was taken out", "Ctrl+Z", "intake"),
    ActionSpec("run.first", "Examine the chosen waiting files first", "Ctrl+Shift+E", "intake"),
    ActionSpec("run.start", "Examine", "Ctrl+Return", "", "Begin or go on with the run"),
    ActionSpec("run.pause", "Pause or go on", "Ctrl+P"),
    ActionSpec("run.stop", "Stop the run", "Ctrl+."),
    ActionSpec("triage.find", "Find by words or fields", "Ctrl+F", "triage"),
    ActionSpec("triage.narrow", "Narrow by kind, damage, camera…", "Ctrl+N", "triage"),
    ActionSpec("triage.weigh", "Horizon by files or by bytes", "Ctrl+H", "triage"),
    ActionSpec("triage.save", "Save this filter…", "Ctrl+S", "triage"),
    ActionSpec("triage.clear", "Show everything again", "Ctrl+Backspace", "triage"),
    ActionSpec("triage.sheet", "Pictures or rows", "Ctrl+G", "triage"),
    ActionSpec("triage.invert", "Turn the choice around", "Ctrl+I", "triage"),
    ActionSpec("triage.folder", "Choose all shown of this folder", "Ctrl+Shift+F", "triage"),
    ActionSpec("triage.format", "Choose all shown of this format", "Ctrl+Shift+T", "triage"),
    ActionSpec("triage.copies", "Choose all copies of this file", "Ctrl+Shift+C", "triage"),
    ActionSpec(
        "triage.bits",
        "Follow the chosen clips to the last bit",
        "Ctrl+Alt+B",
        "triage",
        "At first large ones are only looked at by their units",
    ),
    ActionSpec("triage.bench", "Take the chosen file to the bench", "Return", "triage"),
    ActionSpec("bench.next", "Next file shown in triage", "Ctrl+Down", "bench"),
    ActionSpec("bench.previous", "Previous file shown in triage", "Ctrl+Up", "bench"),
    ActionSpec("bench.inside", "Show or hide structure and bytes", "Ctrl+B", "bench"),
    ActionSpec("bench.compare", "Side by side, or wiped one against the other", "Ctrl+E", "bench"),
    ActionSpec("bench.play", "Play, or stand still", "Ctrl+Y", "bench"),
    ActionSpec("bench.page_on", "Next page", "Ctrl+PgDown", "bench"),
    ActionSpec("bench.page_back", "Previous page", "Ctrl+PgUp", "bench"),
    ActionSpec("bench.every", "Try every repair on copies", "Ctrl+Alt+R", "bench"),
    ActionSpec("bench.undo", "Take the last keeping or dropping back", "Ctrl+Z", "bench"),
    ActionSpec("bench.review", "Go through the results of all repairs", "Ctrl+U", help="Keep or drop them one by one"),
    ActionSpec("bench.repair", "Do the chosen repair", "Ctrl+R", "bench"),
    ActionSpec("bench.keep", "Keep this result", "Ctrl+K", "bench"),
    ActionSpec("bench.drop", "Drop this result", "Ctrl+Shift+K", "bench"),
    ActionSpec("bench.damage", "Show or hide the damage", "Ctrl+M", "bench"),
    ActionSpec("repair.all", "Plan the repair of all that is shown", "Ctrl+Shift+R", "triage"),
    ActionSpec(
        "repair.front",
        "Repaired clips begin with their index",
        "Ctrl+Alt+F",
        help="Fast start: playing begins before all is read",
        turns=True,
    ),
    ActionSpec("handover.target", "Choose the target folder…", "Ctrl+T", "handover"),
    ActionSpec("handover.deliver", "Deliver", "Ctrl+Shift+Return", "handover"),
    ActionSpec("handover.open", "Open the delivery folder", "Ctrl+Shift+O", "handover"),
    ActionSpec("view.theme", "Light, dark or as the system", "Ctrl+L"),
    ActionSpec("view.larger", "Larger type", "Ctrl++"),
    ActionSpec("view.smaller", "Smaller type", "Ctrl+-"),
    ActionSpec("help.palette", "All actions by name", "F2"),
    ActionSpec("help.happened", "What happened", "F4"),
    ActionSpec("help.keys", "All actions and their keys", "F1"),
    ActionSpec("app.quit", "Quit", "Ctrl+Q"),
)


def by_ident(ident: str) -> ActionSpec:
    """The action of that name."""
    return next(a for a in ACTIONS if a.ident == ident)
