"""``jugal``: check, repair and demo over the same engine as the window."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Annotated

import typer
from rich.console import Console
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn

from jugal.binary.limits import DEFAULT_LIMITS, TO_THE_BIT, Limits
from jugal.engine.batch import Batch
from jugal.engine.child import Child
from jugal.engine.contract import examination_record, line, outcome_record
from jugal.engine.donors import is_donor
from jugal.engine.events import Examined, Listed
from jugal.engine.repair import check_destination
from jugal.engine.walk import walk
from jugal.model.result import Examination

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    help="Examines, scores, repairs and hands over recovered files.",
)

Paths = Annotated[list[str], typer.Argument(help="Files and folders to examine.", show_default=False)]
JsonLines = Annotated[str, typer.Option("--jsonl", help="File for the JSON lines; - is standard output.")]
Donor = Annotated[str | None, typer.Option(help="A healthy file from the same device and settings.")]
ToTheBit = Annotated[
    bool, typer.Option("--to-the-bit", help="Follow every bit of video, however large; takes far longer.")
]
Workers = Annotated[int | None, typer.Option(min=1, help="Worker processes; as many as cores without it.")]


def _refuse(sentence: str) -> typer.Exit:
    print(f"jugal: {sentence}", file=sys.stderr)
    return typer.Exit(2)


@contextlib.contextmanager
def _lines_to(where: str) -> Iterator[IO[str]]:
    if where == "-":
        yield sys.stdout
        sys.stdout.flush()
        return
    try:
        stream = open(where, "w", encoding="ascii")  # noqa: SIM115
    except OSError as error:
        raise _refuse(f"{where} cannot be written: {error.strerror}.") from error
    with stream:
        yield stream


def _run(paths: list[str], workers: int | None, limits: Limits = DEFAULT_LIMITS) -> Iterator[Examination]:
    """Examines everything under ``paths`` with a progress bar on standard error, where that is a terminal."""
    console = Console(stderr=True)
    batch = Batch(walk(paths), workers, thumbnails=False, limits=limits)
    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        DownloadColumn(),
        TextColumn("{task.fields[files]}"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=console, disable=not console.is_terminal) as progress:
        task = progress.add_task("Examining", total=None, files="")
        count = 0
        for event in batch.run():
            if isinstance(event, Listed):
                count = event.files
                progress.update(task, total=max(1, event.bytes))
            elif isinstance(event, Examined):
                progress.update(task, completed=event.bytes_done, files=f"{event.files_done:,} of {count:,} files")
                yield event.examination


def _donor(path: str | None) -> Examination | None:
    if path is None:
        return None
    with Child() as child:
        examined = child.examine(path)
    if examined.error is not None:
        raise _refuse(f"The donor {path} cannot be used. {examined.error}")
    if not is_donor(examined):
        raise _refuse(f"The donor {path} is not intact.")
    return examined


@app.command()
def check(
    paths: Paths, jsonl: JsonLines = "-", donor: Donor = None, workers: Workers = None, to_the_bit: ToTheBit = False
) -> None:
    """Examines each file and writes one JSON object per file, one per line."""
    _existing(paths)
    _donor(donor)
    failed = False
    with _lines_to(jsonl) as stream:
        for examination in _run(paths, workers, TO_THE_BIT if to_the_bit else DEFAULT_LIMITS):
            stream.write(line(examination_record(examination)) + "\n")
            failed = failed or examination.error is not None
    raise typer.Exit(1 if failed else 0)


@app.command()
def repair(
    paths: Paths,
    into: Annotated[Path, typer.Option(help="Folder for the repaired files; it must not hold the source.")],
    donor: Donor = None,
    method: Annotated[str | None, typer.Option(help="Only this repair; estimate-index@25 sets its rate.")] = None,
    fast_start: Annotated[bool, typer.Option("--fast-start", help="Put the index of repaired clips in front.")] = False,
    jsonl: JsonLines = "-",
) -> None:
    """Repairs each file that can be repaired into a folder, and measures what was written."""
    _existing(paths)
    reason = check_destination(into, paths)
    if reason is not None:
        raise _refuse(reason)
    given = _donor(donor)
    with contextlib.suppress(OSError):
        into.mkdir(parents=True, exist_ok=True)
    if not into.is_dir():
        raise _refuse(f"The folder {into} cannot be made.")
    failed = False
    with _lines_to(jsonl) as stream:
        examinations = list(_run(paths, None))
        donors = [given] if given is not None else [e for e in examinations if is_donor(e)]
        with Child() as child:
            for examination in sorted(examinations, key=lambda e: e.path):
                outcome = child.repair(examination, into, donors, method, 1 if method else 3, fast_start)
                stream.write(line(outcome_record(outcome)) + "\n")
                stream.flush()
                failed = failed or examination.error is not None
    raise typer.Exit(1 if failed else 0)


@app.command()
def demo(
    headless: Annotated[bool, typer.Option(help="Run the case from end to end without a window.")] = False,
) -> None:
    """Opens the window on the demo case, made on the spot where it is not there yet."""
    if headless:
        from jugal.samples.demo_run import run_demo

        raise typer.Exit(run_demo(sys.stdout))
    from jugal.app.main import open_demo

    raise typer.Exit(open_demo())


@app.command()
def window(case: Annotated[Path | None, typer.Argument(help="A case to open.")] = None) -> None:
    """Opens the window, on a case where one is named."""
    from jugal.app.main import open_window

    raise typer.Exit(open_window(case))


def _existing(paths: list[str]) -> None:
    import os

    for path in paths:
        if not os.path.lexists(path):
            raise _refuse(f"{path} does not exist.")


def main() -> None:
    """Entry point of the ``jugal`` command."""
    if len(sys.argv) == 1:
        sys.argv.append("window")
    app()


if __name__ == "__main__":
    main()
