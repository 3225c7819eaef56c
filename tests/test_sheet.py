"""The contact sheet, the choice it shares with the rows, and distances that grow with the font."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QItemSelectionModel, QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from conftest import delete, healthy
from jugal.app.controllers.session import Session
from jugal.app.style import tokens
from jugal.app.views.window import Window
from jugal.app.widgets.elided import ElidedLabel
from jugal.app.widgets.sheet import ContactSheet
from jugal.case.store import Case
from jugal.engine.examine import examine_file

NAMES = [f"photo{k:02}.jpg" for k in range(30)]


@pytest.fixture
def window(qapp: QApplication, tmp_path: Path) -> Iterator[Window]:
    """A window on a case of thirty photos, half of them cut short."""
    place = tmp_path / "card"
    place.mkdir()
    whole = healthy("jpeg")
    case = Case(tmp_path / "case.jugal")
    for k, name in enumerate(NAMES):
        path = place / name
        path.write_bytes(whole if k % 2 else whole[: len(whole) // 2])
    case.add_source(str(place))
    case.save([(examine_file(place / name), 0, None) for name in NAMES])
    case.close()
    session = Session()
    window = Window(session, QSettings(str(tmp_path / "settings.ini"), QSettings.Format.IniFormat))
    window.resize(1280, 800)
    window.show()
    session.open_case(tmp_path / "case.jugal")
    window.go("triage")
    QApplication.processEvents()
    yield window
    window.close()
    delete(window)


@pytest.fixture
def sheet(window: Window) -> ContactSheet:
    window.triage.show_as_sheet(True)
    QApplication.processEvents()
    return window.triage.sheet


def test_rows_and_pictures_change_places(window: Window) -> None:
    assert window.triage.table.isVisible() and not window.triage.sheet.isVisible()
    QTest.keyClick(window.triage.table, Qt.Key.Key_G, Qt.KeyboardModifier.ControlModifier)
    assert window.triage.sheet.isVisible() and not window.triage.table.isVisible()
    assert window.triage.files_view() is window.triage.sheet
    QTest.mouseClick(window.triage.shape, Qt.MouseButton.LeftButton)
    assert window.triage.table.isVisible()


def test_every_cell_is_where_it_is_drawn(sheet: ContactSheet) -> None:
    model = sheet.model()
    seen = set()
    for number in range(model.rowCount()):
        place = sheet.visualRect(model.index(number, 1))
        assert sheet.indexAt(place.center()).row() == number
        seen.add((place.x(), place.y()))
        assert place.left() >= 0 and place.right() < sheet.viewport().width()
    assert len(seen) == model.rowCount()
    assert not sheet.indexAt(QPoint(sheet.viewport().width() - 1, 5)).isValid() or sheet.viewport().width() % 180 == 0


def test_keys_move_through_the_grid(sheet: ContactSheet) -> None:
    sheet.setCurrentIndex(sheet.model().index(0, 1))
    columns = sheet.viewport().width() // tokens.CELL_WIDTH
    for key, expected in (
        (Qt.Key.Key_Right, 1),
        (Qt.Key.Key_Down, 1 + columns),
        (Qt.Key.Key_Left, columns),
        (Qt.Key.Key_Up, 0),
        (Qt.Key.Key_End, len(NAMES) - 1),
        (Qt.Key.Key_Home, 0),
    ):
        QTest.keyClick(sheet, key)
        assert sheet.currentIndex().row() == expected
    QTest.keyClick(sheet, Qt.Key.Key_End)
    place = sheet.visualRect(sheet.currentIndex())
    assert place.top() >= 0 and place.bottom() <= sheet.viewport().height()


def test_what_is_chosen_in_one_is_chosen_in_the_other(window: Window, sheet: ContactSheet) -> None:
    first, third = (sheet.visualRect(sheet.model().index(k, 1)).center() for k in (0, 2))
    QTest.mouseClick(sheet.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, first)
    QTest.mouseClick(sheet.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, third)
    assert len(window.triage.selected_numbers()) == 2
    assert "2 chosen" in window.triage.count.text()
    window.triage.show_as_sheet(False)
    assert {i.row() for i in window.triage.table.selectionModel().selectedRows()} == {0, 2}


def test_choice_turned_around(window: Window) -> None:
    table = window.triage.table
    table.clearSelection()
    for row in (0, 1, 7):
        table.selectionModel().select(
            table.model().index(row, 0),
            QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows,
        )
    QTest.keyClick(table, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    assert len(window.triage.selected_numbers()) == len(NAMES) - 3
    QTest.keyClick(table, Qt.Key.Key_I, Qt.KeyboardModifier.ControlModifier)
    assert {i.row() for i in table.selectionModel().selectedRows()} == {0, 1, 7}


def test_double_click_takes_the_picture_to_the_bench(window: Window, sheet: ContactSheet) -> None:
    centre = sheet.visualRect(sheet.model().index(3, 1)).center()
    QTest.mouseClick(sheet.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, centre)
    QTest.mouseDClick(sheet.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, centre)
    assert window.stack.currentWidget() is window.bench
    assert window.bench.number == window.session.model.number_at(3)


def test_a_narrowed_filter_shows_fewer_cells(window: Window, sheet: ContactSheet) -> None:
    window.triage.find_edit.setText("photo0")
    QApplication.processEvents()
    assert sheet.model().rowCount() == 10
    assert sheet.verticalScrollBar().maximum() == 0
    pixels = sheet.viewport().grab().toImage()
    last = sheet.visualRect(sheet.model().index(9, 1))
    below = pixels.pixelColor(last.center().x(), min(last.bottom() + 60, pixels.height() - 1))
    assert below.name() == window.theme.surface


def test_distances_grow_with_the_font() -> None:
    try:
        tokens.grow(15.0)
        assert tokens.ROW_HEIGHT == 81 and tokens.scaled(100) == 150
        tokens.grow(99.0)
        assert tokens.ROW_HEIGHT == 108
        tokens.grow(6.0)
        assert tokens.ROW_HEIGHT == 54
    finally:
        tokens.grow(10.0)


def test_a_long_sentence_gives_way_and_shows_as_a_tip(qtbot) -> None:  # type: ignore[no-untyped-def]
    """It never widens the window; what does not fit is in the tip, what fits needs none."""
    label = ElidedLabel()
    qtbot.addWidget(label)
    label.resize(120, 24)
    label.setText("one sentence after another that nobody made room for " * 4)
    assert label.minimumSizeHint().width() == 0
    assert label.toolTip() == label.text()
    label.setText("short")
    assert label.toolTip() == ""
