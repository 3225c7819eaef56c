"""The real window, offscreen: the whole path by keyboard, the model, the strip and horizon, nothing left behind."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PySide6.QtGui import QColor, QDropEvent, QImage, QPainter
from PySide6.QtTest import QAbstractItemModelTester, QTest
from PySide6.QtWidgets import QApplication, QCheckBox, QLineEdit, QPushButton, QToolButton, QWidget

from conftest import healthy, keys, until
from jugal.app.actions.registry import ACTIONS
from jugal.app.bridge.decode import Preview, render
from jugal.app.bridge.jobs import Job
from jugal.app.models.files import COLUMNS, NAME, SCORE, STRIP, FilesModel
from jugal.app.style.tokens import DARK, LIGHT, Theme, contrast, stylesheet, text_pairs
from jugal.app.views.window import Window
from jugal.app.widgets.horizon import BINS, Horizon
from jugal.app.widgets.picture import PictureView
from jugal.app.widgets.strip import StripView, in_words, paint_strip
from jugal.case.catalog import Facet, Filter
from jugal.case.store import Case
from jugal.model.result import Region, Verdict
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter, StripSpan


def test_whole_path_by_keyboard(window: Window, card: Path, tmp_path: Path) -> None:
    """Intake → run → triage → bench → repair → keep → handover → delivery, no mouse."""
    session = window.session
    before = {p.name: p.read_bytes() for p in card.iterdir()}
    session.add_sources([str(card)])
    ended: list[str] = []
    session.run_ended.connect(ended.append)
    keys(window, "Ctrl+Return")
    assert window.stack.currentWidget() is window.triage
    until(lambda: bool(ended))
    assert session.model.total() == 7 and ended == [""]
    window.triage.find_edit.setFocus()
    QTest.keyClicks(window.triage.find_edit, "junk")
    until(lambda: session.model.rowCount() == 1)
    window.triage.table.setFocus()
    window.triage.table.selectRow(0)
    keys(window.triage.table, "Return")
    assert window.stack.currentWidget() is window.bench
    assert window.bench.title.text() == "junk.jpg"
    assert window.bench.plans.item(0).text().startswith("trim")
    told: list[object] = []
    session.repair_ended.connect(told.append)
    keys(window.bench, "Ctrl+R")
    until(lambda: bool(told))
    assert (
        "kept" in window.bench.stage.after.caption.text()
        and "100.0 measured after" in window.bench.outcome.toPlainText()
    )
    keys(window.bench, "Ctrl+Shift+K")
    assert "not kept" in window.bench.stage.after.caption.text()
    keys(window.bench, "Ctrl+K")
    assert session.case is not None and session.case.repairs()[0].kept
    keys(window, "Ctrl+2")
    window.triage.table.setFocus()
    keys(window.triage.table, "Ctrl+Backspace")
    assert session.model.rowCount() == 7
    window.triage.table.clearSelection()
    keys(window, "Ctrl+4")
    target = tmp_path / "delivery"
    window.handover.target.setText(str(target))
    until(lambda: window.handover.deliver_button.isEnabled())
    delivered: list[str] = []
    session.delivery_ended.connect(delivered.append)
    window.handover.target.setFocus()
    keys(window.handover.target, "Ctrl+Shift+Return")
    until(lambda: bool(delivered))
    assert delivered == [""] and "found equal" in window.handover.result.text()
    assert (target / "card" / "junk.jpg").read_bytes() == healthy("jpeg")
    assert (target / "report.html").exists() and (target / "checksums.sha256").exists()
    assert {p.name: p.read_bytes() for p in card.iterdir()} == before


def test_handover_refuses_the_source(window: Window, card: Path) -> None:
    window.session.add_sources([str(card)])
    ended: list[str] = []
    window.session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: bool(ended))
    window.go("handover")
    window.handover.target.setText(str(card / "inside"))
    until(lambda: "lies in the source" in window.handover.problem.text())
    assert not window.handover.deliver_button.isEnabled()
    window.handover.deliver()
    assert not (card / "inside").exists()


def test_drop_adds_sources(window: Window, card: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(card)), QUrl("https://odrell.example/x")])
    event = QDropEvent(
        QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    window.dropEvent(event)
    assert window.session.sources == [str(card)]
    assert window.stack.currentWidget() is window.intake
    assert window.intake.list.count() == 1 and "read only" in window.intake.list.item(0).text()
    window.intake.list.setFocus()
    keys(window.intake.list, "Del")
    assert window.session.sources == [] and not window.intake.start.isEnabled()


def test_second_opening_shows_the_case_and_goes_on(window: Window, card: Path) -> None:
    window.session.add_sources([str(card)])
    ended: list[str] = []
    window.session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: bool(ended))
    case = window.session.case
    assert case is not None
    case.put("run", "begun")
    said: list[str] = []
    window.session.said.connect(said.append)
    assert window.session.open_case(case.path)
    assert window.session.model.total() == 7 and "broken off" in said[-1]


def test_newer_case_is_refused_in_words(window: Window, tmp_path: Path) -> None:
    import sqlite3

    path = tmp_path / "newer.jugal"
    with sqlite3.connect(path) as db:
        db.execute("PRAGMA user_version = 99")
    assert not window.session.open_case(path)
    assert "newer version" in window.words.text()


def test_event_loop_turns_while_two_thousand_files_come_in(window: Window, tmp_path: Path) -> None:
    """No turn has more than a small part of the interface thread's work, and the files come in while it runs.

    Counted in the thread's own processor time, which is the same on a busy machine; how long the gaps are `make bench`
    says.
    """
    place = tmp_path / "many"
    place.mkdir()
    seed = healthy("jpeg-grey")[:9000]
    for i in range(2000):
        (place / f"f{i:04d}.txt").write_text(f"sheet {i}\n" * 30)
        if i % 10 == 0:
            (place / f"p{i:04d}.jpg").write_bytes(seed)
    window.session.add_sources([str(place)])
    window.go("triage")
    turns: list[tuple[float, int]] = []
    timer = QTimer()
    timer.setInterval(0)
    timer.timeout.connect(lambda: turns.append((time.thread_time(), window.session.model.total())))
    ended: list[str] = []
    window.session.run_ended.connect(ended.append)
    window.session.start_run()
    timer.start()
    end = time.monotonic() + 150
    while not ended and time.monotonic() < end:
        QApplication.processEvents()
    timer.stop()
    assert window.session.model.total() == 2200
    spent, seen = np.array(turns).T
    gaps, whole = np.diff(spent), spent[-1] - spent[0]
    assert len(turns) > 2200
    assert len(np.unique(seen)) > 3
    assert np.percentile(gaps, 99.5) < 0.01 * whole, f"{np.percentile(gaps, 99.5):.3f} s of {whole:.1f} s"
    assert gaps.max() < 0.1 * whole, f"{gaps.max():.3f} s of {whole:.1f} s"


def test_model_keeps_qts_rules_and_filters(window: Window, card: Path) -> None:
    model = window.session.model
    tester = QAbstractItemModelTester(model, QAbstractItemModelTester.FailureReportingMode.Warning)
    window.session.add_sources([str(card)])
    ended: list[str] = []
    window.session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: bool(ended))
    model.set_filter(Filter(chosen={"kind": ("photo",)}))
    assert model.rowCount() == 3
    model.set_filter(model.filter.toggled(Facet.VERDICT, "repairable"))
    assert {model.index(i, NAME).data() for i in range(model.rowCount())} == {"junk.jpg", "hole.jpg"}
    model.set_filter(Filter())
    model.set_filter(Filter(low=90))
    scores = [float(str(model.index(i, SCORE).data())) for i in range(model.rowCount())]
    assert scores and min(scores) >= 90
    model.set_filter(Filter())
    model.sort(SCORE, Qt.SortOrder.DescendingOrder)
    first = model.index(0, SCORE).data()
    model.sort(SCORE, Qt.SortOrder.AscendingOrder)
    assert model.index(model.rowCount() - 1, SCORE).data() == first
    assert model.headerData(STRIP, Qt.Orientation.Horizontal) == COLUMNS[STRIP]
    described = [str(model.index(i, STRIP).data(Qt.ItemDataRole.AccessibleDescriptionRole)) for i in range(7)]
    assert all("%" in text for text in described) and any("payload" in text for text in described)
    assert int(sum(c.sum() for c in model.horizon().values())) == 7
    del tester


def test_files_without_a_score_are_counted_apart(tmp_path: Path, qapp: QApplication) -> None:
    place = tmp_path / "in"
    place.mkdir()
    (place / "noise.bin").write_bytes(np.random.default_rng(1).bytes(9000))
    (place / "a.txt").write_text("words\n" * 50)
    from jugal.engine.run import CaseRun

    case = Case(tmp_path / "c.jugal")
    case.add_source(str(place))
    list(CaseRun(case).run())
    model = FilesModel()
    model.set_case(case)
    model.set_filter(Filter(low=10))
    assert (model.rowCount(), model.kept_apart) == (1, (1, "no score"))
    case.close()


def test_unfolded_row_and_bench_follow(window: Window, card: Path) -> None:
    window.session.add_sources([str(card)])
    ended: list[str] = []
    window.session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: bool(ended))
    triage = window.triage
    triage.table.selectRow(2)
    assert triage.delegate.open_row == 2
    tall, usual = triage.table.rowHeight(2), triage.table.rowHeight(0)
    assert tall > 2 * usual
    triage.table.setFocus()
    QTest.keyClick(triage.table, Qt.Key.Key_Space)
    assert triage.delegate.open_row == -1 and triage.table.rowHeight(2) == usual
    number = next(r.id for r in window.session.model.all_rows() if r.path.endswith("/hole.jpg"))
    window.take_to_bench(number)
    finding = window.session.examination(number)
    assert finding is not None and finding.findings[0].span is not None
    window.bench.findings.setCurrentRow(0)
    window.bench.strip.picked.emit(finding.findings[0].span.start)
    assert window.bench.findings.currentRow() == 0
    received: list[object] = []
    window.previewer.ready.connect(lambda key, preview: received.append(preview))
    window.bench.show_file(number)
    until(lambda: bool(received))
    assert isinstance(received[0], Preview) and received[0].width > 100


def test_preview_process_survives_anything(window: Window, tmp_path: Path) -> None:
    bad = tmp_path / "bad.jpg"
    bad.write_bytes(b"\xff\xd8\xff\xe0" + bytes(500))
    answers: dict[object, Preview] = {}
    window.previewer.ready.connect(lambda key, preview: answers.update({key: preview}))
    window.previewer.ask("a", str(bad), "jpeg", "photo")
    window.previewer.ask("b", str(tmp_path / "gone.mp4"), "mp4", "video")
    until(lambda: len(answers) == 2)
    assert all(p.width == 0 and "No general decoder" in p.text for p in answers.values())


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("jpeg", "photo"),
        ("mp4", "video"),
        ("wav", "audio"),
        ("pdf", "document"),
        ("docx", "document"),
        ("zip", "archive"),
    ],
)
def test_previews_of_every_kind(name: str, kind: str, tmp_path: Path) -> None:
    path = tmp_path / f"x.{name}"
    path.write_bytes(healthy(name))
    preview = render(str(path), name, kind)
    assert preview.width * preview.height * 3 == len(preview.rgb)
    assert preview.rgb or "notes" in preview.text or "1." in preview.text


def test_strip_shows_every_matter_differently(qapp: QApplication) -> None:
    """Each matter's pattern differs from the others even without colour."""
    grey: dict[Matter, bytes] = {}
    for matter in Matter:
        image = QImage(64, 24, QImage.Format.Format_RGB32)
        image.fill(0)
        painter = QPainter(image)
        paint_strip(painter, image.rect().toRectF(), (StripSpan(ByteSpan(0, 100), matter),), LIGHT)
        painter.end()
        grey[matter] = bytes(image.convertToFormat(QImage.Format.Format_Grayscale8).constBits())
    assert len(set(grey.values())) == len(Matter)
    assert "hole 50.0 %" in in_words(
        (StripSpan(ByteSpan(0, 50), Matter.HOLE), StripSpan(ByteSpan(50, 100), Matter.PAYLOAD))
    )


def test_strip_zooms_and_moves_by_keys(qtbot) -> None:  # type: ignore[no-untyped-def]
    view = StripView(LIGHT)
    qtbot.addWidget(view)
    view.resize(600, 64)
    view.set_spans((StripSpan(ByteSpan(0, 100_000), Matter.PAYLOAD),))
    QTest.keyClick(view, Qt.Key.Key_Plus)
    assert view._last - view._first < 100_000
    width = view._last - view._first
    QTest.keyClick(view, Qt.Key.Key_Right)
    assert view._last - view._first == pytest.approx(width) and view._first > 0
    for _ in range(9):
        QTest.keyClick(view, Qt.Key.Key_Minus)
    assert (view._first, view._last) == (0.0, 100_000.0)
    picked: list[int] = []
    view.picked.connect(picked.append)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(300, 20))
    assert abs(picked[0] - 50_000) < 400
    assert not view.grab().isNull()


def test_horizon_is_brushed_by_mouse_and_keys(qtbot) -> None:  # type: ignore[no-untyped-def]
    gauge = Horizon(LIGHT)
    qtbot.addWidget(gauge)
    gauge.resize(600, 92)
    gauge.set_counts({Verdict.INTACT: np.ones(BINS), Verdict.DAMAGED: np.arange(BINS, dtype=float)})
    ranges: list[tuple[float, float]] = []
    gauge.brushed.connect(lambda a, b: ranges.append((a, b)))
    QTest.mousePress(gauge, Qt.MouseButton.LeftButton, pos=QPoint(150, 40))
    QTest.mouseMove(gauge, QPoint(400, 40))
    QTest.mouseRelease(gauge, Qt.MouseButton.LeftButton, pos=QPoint(400, 40))
    assert ranges and 10 < ranges[-1][0] < 40 < 50 < ranges[-1][1] < 80
    low = gauge.range()[0]
    QTest.keyClick(gauge, Qt.Key.Key_Right)
    assert gauge.range()[0] == low + 2
    QTest.mouseClick(gauge, Qt.MouseButton.LeftButton, pos=QPoint(200, 40))
    assert gauge.range() == (0.0, 100.0)
    assert "scored" in gauge.accessibleDescription() and not gauge.grab().isNull()


def test_picture_zooms_and_draws_damage(qtbot) -> None:  # type: ignore[no-untyped-def]
    view = PictureView(LIGHT, "Picture")
    qtbot.addWidget(view)
    view.resize(400, 300)
    view.set_preview(Preview(40, 30, bytes([120]) * 3600))
    plain = view.grab().toImage()
    view.set_regions((Region(0.5, 1.0, "rows 15 to 30"),), False)
    marked = view.grab().toImage()
    assert marked != plain
    view.toggle_damage()
    assert view.grab().toImage() == plain
    moves: list[float] = []
    view.moved.connect(lambda zoom, middle: moves.append(zoom))
    QTest.keyClick(view, Qt.Key.Key_Plus)
    QTest.keyClick(view, Qt.Key.Key_Right)
    QTest.keyClick(view, Qt.Key.Key_0)
    assert moves[0] == 1.5 and moves[-1] == 1.0


def test_job_tells_what_went_wrong(qapp: QApplication, caplog: pytest.LogCaptureFixture) -> None:
    def work() -> Iterator[int]:
        yield 1
        raise ValueError("the reason")

    told: list[int] = []
    ended: list[str] = []
    job = Job(work)
    job.told.connect(told.append)
    job.ended.connect(ended.append)
    job.start()
    until(lambda: bool(ended))
    assert told == [1] and ended == ["the reason"] and job.wait()


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=["light", "dark"])
def test_text_has_contrast(theme) -> None:  # type: ignore[no-untyped-def]
    poor = [(a, b, round(contrast(a, b), 2)) for a, b in text_pairs(theme) if contrast(a, b) < 4.5]
    assert not poor
    assert "{" in stylesheet(theme)


def test_every_action_has_keys_of_its_own_and_a_handler(window: Window) -> None:
    assert {a.ident for a in ACTIONS} == set(window.actions_by_name)
    seen = set()
    for spec in ACTIONS:
        assert spec.keys and (spec.keys, spec.place) not in seen and (spec.keys, "") not in seen
        seen.add((spec.keys, spec.place))
        assert not window.actions_by_name[spec.ident].shortcut().isEmpty()


def test_everything_that_takes_the_keyboard_has_a_name(window: Window) -> None:
    for widget in window.findChildren(QWidget):
        if isinstance(widget, QLineEdit) and widget.parent().__class__.__name__ in (
            "QSpinBox",
            "QComboBox",
            "QAbstractSpinBox",
        ):
            continue
        if isinstance(widget, (QPushButton, QToolButton, QLineEdit)) and widget.focusPolicy() & Qt.FocusPolicy.TabFocus:
            assert (
                widget.accessibleName()
                or getattr(widget, "text", lambda: "")()
                or widget.objectName().startswith("qt_")
            ), widget


def test_places_fit_small_windows_and_both_themes(window: Window, card: Path) -> None:
    window.resize(1024, 700)
    for place in ("intake", "triage", "bench", "handover"):
        window.go(place)
        QApplication.processEvents()
        assert window.minimumSizeHint().width() <= 1024 and window.minimumSizeHint().height() <= 700
        one = window.grab().toImage()
        window.toggle_theme()
        QApplication.processEvents()
        assert window.grab().toImage() != one
        window.toggle_theme()
    window.show_keys()
    shutil.rmtree(card, ignore_errors=True)


@pytest.mark.parametrize("theme", [LIGHT, DARK])
def test_a_ticked_box_shows_a_tick(qapp: QApplication, theme: Theme) -> None:
    box = QCheckBox("Hidden files")
    box.setStyleSheet(stylesheet(theme))
    box.resize(box.sizeHint())

    def in_colour(name: str) -> int:
        shown = box.grab().toImage()
        wanted = QColor(name)
        return sum(
            sum(abs(a - b) for a, b in zip(shown.pixelColor(x, y).getRgb()[:3], wanted.getRgb()[:3], strict=True)) < 60
            for x in range(20)
            for y in range(shown.height())
        )

    assert in_colour(theme.accent) < 5
    box.setChecked(True)
    assert in_colour(theme.accent) > 60 and in_colour(theme.on_accent) > 8
    box.deleteLater()
