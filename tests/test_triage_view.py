"""Triage and what is everywhere, in the real window: facets, tokens, saved filters, palette, colours, type, words."""

from __future__ import annotations

import time
from pathlib import Path

import pytest
from PySide6.QtCore import QDate, QItemSelectionModel, QModelIndex, QRect, Qt
from PySide6.QtTest import QAbstractItemModelTester, QTest
from PySide6.QtWidgets import QApplication, QInputDialog, QLabel, QWidget

from conftest import healthy, keys, number_of, run, until
from jugal.app.models.files import FORMAT, NAME, DetailRole
from jugal.app.style import tokens
from jugal.app.views.window import Window
from jugal.app.widgets.flow import FlowLayout
from jugal.app.widgets.palette import fits
from jugal.case.catalog import Facet, Filter, SortKey
from jugal.case.peek import peek
from jugal.case.store import Case
from jugal.engine.listing import list_sources
from jugal.engine.run import Choice
from jugal.model.result import Kind


def names(window: Window) -> set[str]:
    model = window.session.model
    return {row.name for i in range(model.rowCount()) if (row := model.row_at(i)) is not None}


def test_facets_narrow_and_tokens_take_it_back(examined: Window) -> None:
    triage, model = examined.triage, examined.session.model
    examined.go("triage")
    keys(triage.table, "Ctrl+N")
    assert triage.band.isVisible() and triage.band.tabs.hasFocus()
    triage.band.tabs.setCurrentIndex(list(Facet).index(Facet.KIND))
    shown = [triage.band.list.item(i).text() for i in range(triage.band.list.count())]
    assert shown[0] == "photo  3" and "video  1" in shown
    triage.band.list.setFocus()
    triage.band.list.setCurrentRow(0)
    QTest.keyClick(triage.band.list, Qt.Key.Key_Space)
    assert names(examined) == {"whole.jpg", "junk.jpg", "hole.jpg"}
    triage.band.tabs.setCurrentIndex(list(Facet).index(Facet.DAMAGE))
    item = next(
        triage.band.list.item(i)
        for i in range(triage.band.list.count())
        if triage.band.list.item(i).text().startswith("a hole")
    )
    triage.band.list.itemClicked.emit(item)
    assert names(examined) == {"hole.jpg"}
    until(lambda: len(triage.tokens) == 2)
    assert [t.property("words") for t in triage.tokens] == ["of kind photo", "with a hole"]
    triage.tokens[0].click()
    until(lambda: len(triage.tokens) == 1)
    assert "hole.jpg" in names(examined) and model.filter.values(Facet.KIND) == ()
    assert "1 chosen" not in triage.count.text()
    keys(triage.table, "Ctrl+Backspace")
    assert model.rowCount() == 7 and model.filter.is_open
    keys(triage.table, "Ctrl+N")
    assert not triage.band.isVisible()


def test_the_query_line_finds_and_says_what_it_does_not_understand(examined: Window) -> None:
    triage = examined.triage
    examined.go("triage")
    keys(triage.table, "Ctrl+F")
    assert triage.find_edit.hasFocus()
    QTest.keyClicks(triage.find_edit, "score<50 -name:hole")
    assert names(examined) == {"junk.jpg", "clip.mp4", "zeros.bin"} & names(examined) != set()
    triage.find_edit.setText("score<fifty")
    until(lambda: "a number is needed" in triage.count.text())
    triage.find_edit.setText("taken:2026-05-14")
    until(lambda: "4 with no date inside kept apart" in triage.count.text(), 10)
    assert {"whole.jpg", "junk.jpg", "hole.jpg"} == names(examined)
    # What the camera rules out is not kept apart for want of a date.
    triage.find_edit.setText("camera:lurga taken:2026-05-14")
    until(lambda: "kept apart" not in triage.count.text(), 10)
    assert {"whole.jpg", "junk.jpg", "hole.jpg"} == names(examined)


def test_filters_are_saved_with_the_case(examined: Window) -> None:
    triage, session = examined.triage, examined.session
    triage._use(Filter("jpg", {"kind": ("photo",)}, 0, 60))
    assert triage.find_edit.text() == "jpg" and triage.horizon.range() == (0, 60)
    triage.ask_filter_name()
    asking = examined.findChild(QInputDialog)
    assert asking is not None and not asking.isModal()
    asking.setTextValue("My photos")
    asking.accept()
    assert list(session.saved_filters()) == ["My photos"]
    triage.show_everything()
    triage._fill_saved()
    menu = triage.saved_word.menu()
    next(a for a in menu.actions() if a.text() == "My photos").trigger()
    assert session.model.filter == Filter("jpg", {"kind": ("photo",)}, 0, 60)
    next(a for a in menu.actions() if a.text() == "Worth repairing").trigger()
    assert names(examined) >= {"junk.jpg", "hole.jpg"} and triage.find_edit.text() == ""
    session.save_filter("My photos", "")
    assert session.saved_filters() == {}
    triage.show_everything()
    triage.ask_filter_name()
    assert len([d for d in examined.findChildren(QInputDialog) if d.isVisible()]) == 0, "an open filter is not saved"


def test_two_keys_put_in_order(examined: Window) -> None:
    triage, model = examined.triage, examined.session.model
    triage.order_by(SortKey.SIZE)
    triage.order_by(SortKey.FORMAT)
    assert model.keys == ((SortKey.FORMAT, False), (SortKey.SIZE, True))
    rows = [model.row_at(i) for i in range(model.rowCount())]
    order = [(r.format, -r.size) for r in rows if r is not None]
    assert order == sorted(order)
    triage._fill_order()
    next(a for a in triage.order_word.menu().actions() if "other way" in a.text()).trigger()
    assert model.keys[0] == (SortKey.FORMAT, True)
    triage.table.sortByColumn(1, Qt.SortOrder.AscendingOrder)
    assert model.keys == ((SortKey.NAME, False), (SortKey.FORMAT, True))
    triage.order_by(SortKey.FOUND)
    assert model.keys == ()


def test_the_unfolded_row_follows_when_rows_move(examined: Window) -> None:
    triage = examined.triage
    examined.go("triage")
    triage.point_at(number_of(examined, "hole.jpg"))
    row = triage.table.currentIndex().row()
    assert triage.table.rowHeight(row) > tokens.ROW_HEIGHT
    triage.order_by(SortKey.NAME)
    now = triage.table.currentIndex().row()
    assert examined.session.model.number_at(now) == number_of(examined, "hole.jpg")
    tall = [r for r in range(examined.session.model.rowCount()) if triage.table.rowHeight(r) > tokens.ROW_HEIGHT]
    assert tall == [now] == [triage.delegate.open_row]


def test_the_horizon_weighs_bytes(examined: Window) -> None:
    triage = examined.triage
    before = triage.horizon.accessibleDescription()
    keys(triage.table, "Ctrl+H")
    assert triage.by_bytes and triage.horizon.accessibleDescription() != before
    assert "bytes" in triage.horizon.accessibleName()
    keys(triage.table, "Ctrl+H")
    assert triage.horizon.accessibleDescription() == before


def test_copies_are_shown_once_the_run_has_ended(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    for name in ("one.jpg", "two.jpg", "three.CHK"):
        (place / name).write_bytes(healthy("jpeg"))
    (place / "other.jpg").write_bytes(healthy("jpeg-grey"))
    run(window, place)
    copies = window.session.model.counts((Facet.COPIES,))[Facet.COPIES]
    assert copies == {"identical to another": 2, "first of identical files": 1, "": 1}
    window.session.model.set_filter(Filter('-copies:"identical to"'))
    assert names(window) == {"one.jpg", "other.jpg"}


def _until_still(order: list[int]) -> None:
    """Waits until a paused run has finished what its workers had taken."""
    seen, since = -1, time.monotonic()
    while seen != len(order) or time.monotonic() - since < 1.5:
        if seen != len(order):
            seen, since = len(order), time.monotonic()
        QApplication.processEvents()
        time.sleep(0.01)


def test_a_selection_of_what_waits_is_examined_first(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    for i in range(500):
        (place / f"f{i:03d}.jpg").write_bytes(healthy("jpeg")[: 20_000 + i])
    session, card = window.session, window.intake.waiting
    session.add_sources([str(place)])
    order: list[int] = []
    session.run_told.connect(lambda state: order.extend(state.progress.numbers))
    ended: list[str] = []
    session.run_ended.connect(ended.append)
    assert card.isHidden() and not window.intake.cases_card.isHidden()
    window.start_run()
    window.go("intake")
    until(lambda: card.isVisible() and len(card.model.paths) > 100)
    assert window.intake.cases_card.isHidden() and not card.first.isEnabled()
    session.pause_run()
    _until_still(order)
    QAbstractItemModelTester(card.model, QAbstractItemModelTester.FailureReportingMode.Fatal, card)
    card.finder.setText("f")
    names = [Path(p).name for p in card.model.paths]
    for row in (len(names) - 3, len(names) - 90):
        card.list.selectionModel().select(card.model.index(row), QItemSelectionModel.SelectionFlag.Select)
    wanted = {names[-3], names[-90]}
    assert card.first.isEnabled() and card.first.text() == "Examine these 2 first"
    card.refresh()
    assert {Path(p).name for p in card.chosen()} == wanted, "what is chosen stays chosen"
    keys(window, "Ctrl+Shift+E")
    assert {Path(p).name for p in card.model.paths[:2]} == wanted and not card.list.selectedIndexes()
    done = len(order)
    session.pause_run()
    until(lambda: bool(ended), 120)
    assert card.isHidden() and not window.intake.cases_card.isHidden()
    places = [order.index(r.id) for r in session.model.all_rows() if Path(r.path).name in wanted]
    # They waited near the end. Groups that workers had been given may still have been under way, then come the two.
    assert max(places) < done + 250


def test_a_source_taken_out_can_be_put_back(examined: Window, card: Path) -> None:
    window = examined
    window.go("intake")
    known = window.session.model.total()
    keys(window, "Del")
    assert window.session.sources == [] and window.session.model.total() == known
    keys(window, "Ctrl+Z")
    assert window.session.sources == [str(card)]
    keys(window, "Ctrl+Z")
    assert window.session.sources == [str(card)] and window.words.text() == "No source was taken out."


def test_waiting_files_of_a_name_are_examined_first(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    photo = healthy("jpeg")
    for i in range(600):
        (place / f"f{i:03d}.jpg").write_bytes(photo[: 20_000 + i])
    for i in range(5):
        (place / f"wanted{i}.jpg").write_bytes(photo)
    session = window.session
    session.add_sources([str(place)])
    order: list[int] = []
    session.run_told.connect(lambda state: order.extend(state.progress.numbers))
    ended: list[str] = []
    session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: session.run_running and len(session.waiting("f")) > 300)
    waiting = len(session.waiting("wanted"))
    assert waiting == 5 and len(session.waiting("")) > 300
    window.triage.find_edit.setText("wanted")
    until(lambda: window.triage.first.isVisible())
    window.triage.first.click()
    until(lambda: bool(ended), 120)
    ids = [r.id for r in session.model.all_rows() if "wanted" in r.path]
    places = [order.index(i) for i in ids]
    assert len(places) == 5 and max(places) < 500, "they came before most of the others"


# Intake


def test_intake_counts_what_each_choice_means(window: Window, card: Path) -> None:
    (card / ".hidden.txt").write_text("words\n")
    (card / "empty.jpg").write_bytes(b"")
    intake, session = window.intake, window.session
    session.add_sources([str(card)])
    until(lambda: intake.taken.text().startswith("Takes in 9 of 9"))
    assert intake.counts[Kind.PHOTO].text().startswith("4 files") and intake.counts["hidden"].text().startswith(
        "1 files"
    )
    intake.kinds[Kind.AUDIO].setChecked(True)
    until(lambda: "Takes in 2 of 9" in intake.taken.text())
    intake.kinds[Kind.AUDIO].setChecked(False)
    intake.vacant.setChecked(False)
    intake.hidden.setChecked(False)
    until(lambda: "Takes in 7 of 9" in intake.taken.text())
    jpg = next(
        intake.suffixes.item(i)
        for i in range(intake.suffixes.count())
        if intake.suffixes.item(i).text().startswith("jpg")
    )
    jpg.setCheckState(Qt.CheckState.Unchecked)
    until(lambda: "Takes in 4 of 9" in intake.taken.text())
    assert session.choice.without_suffixes == {"jpg"}
    intake.dated.setChecked(True)
    intake.since.setDate(QDate.currentDate().addDays(1))
    intake.until.setDate(QDate.currentDate().addDays(2))
    until(lambda: "Takes in 0 of 9" in intake.taken.text())
    intake.dated.setChecked(False)
    intake.largest.setValue(5)
    until(lambda: "Takes in 1 of 9" in intake.taken.text())
    intake.largest.setValue(0)
    ended: list[str] = []
    session.run_ended.connect(ended.append)
    window.start_run()
    until(lambda: bool(ended))
    assert session.model.total() == 4


def test_listing_is_the_same_as_what_a_run_takes(card: Path) -> None:
    listing = list(list_sources([str(card), str(card)]))[-1]
    assert listing.complete and listing.total.files == 7 and listing.unreadable == 0
    assert listing.taken_by(Choice()).bytes == sum(p.stat().st_size for p in card.iterdir())
    assert listing.usual_suffixes()[0][0] == "jpg"


def test_earlier_cases_are_listed_with_their_state(examined: Window, tmp_path: Path) -> None:
    intake, session = examined.intake, examined.session
    first = session.case.path if session.case else Path()
    session.case.put("run", "begun")  # type: ignore[union-attr]
    assert session.open_case(tmp_path / "work" / "second.jugal")
    until(lambda: intake.cases.count() == 2)
    texts = [intake.cases.item(i).text() for i in range(2)]
    assert "second (open)" in texts[0] and "broken off, can go on, 7 files" in texts[1]
    intake.cases.setCurrentRow(1)
    intake.open_earlier.click()
    assert session.case is not None and session.case.path == first and session.model.total() == 7
    assert peek(tmp_path / "nothing.jugal") is None
    (tmp_path / "junk.jugal").write_bytes(b"no database at all" * 100)
    assert peek(tmp_path / "junk.jugal") is None


def test_a_large_case_comes_in_pieces(window: Window, tmp_path: Path) -> None:
    from jugal.model.result import Examination

    path = tmp_path / "large.jugal"
    case = Case(path)
    case.save([(Examination(f"/card/{i:05d}.jpg", i, score=50.0), 0, None) for i in range(7000)])
    case.close()
    assert window.session.open_case(path)
    assert 0 < window.session.model.total() < 7000
    until(lambda: window.session.model.total() == 7000)
    window.session.model.set_filter(Filter("name:0699 -name:00699"))
    assert window.session.model.rowCount() == 10


# Everywhere


def test_the_palette_finds_and_does(examined: Window) -> None:
    examined.go("triage")
    palette = examined.palette_of_actions
    examined.triage.table.setFocus()
    keys(examined, "F2")
    assert palette.isVisible() and palette.line.hasFocus()
    every = palette.list.rowCount()
    QTest.keyClicks(palette.line, "hand")
    assert 0 < palette.list.rowCount() < every
    QTest.keyClick(palette.line, Qt.Key.Key_Down)
    QTest.keyClick(palette.line, Qt.Key.Key_Up)
    palette.line.setText("handover")
    QTest.keyClick(palette.line, Qt.Key.Key_Return)
    assert examined.stack.currentWidget() is examined.handover and not palette.isVisible()
    keys(examined, "F2")
    QTest.keyClick(palette.line, Qt.Key.Key_Escape)
    assert not palette.isVisible()
    assert fits("sho dam", "Show or hide the damage") and not fits("xyz", "Show") and fits("", "anything")


def test_what_was_said_can_be_read_again(examined: Window) -> None:
    examined.say("A sentence of the test.")
    keys(examined, "F4")
    assert examined.happened.isVisible() and "A sentence of the test." in examined.happened.list.item(0).text()
    examined.happened.copy_all()
    assert QApplication.clipboard().text().endswith("A sentence of the test.")
    keys(examined, "F4")
    assert not examined.happened.isVisible()


def test_colours_go_round_and_are_kept(window: Window) -> None:
    seen = []
    for _ in range(3):
        keys(window, "Ctrl+L")
        seen.append((window.theme_name, window.theme.name))
    assert {name for name, _ in seen} == {"light", "dark", "system"} and ("dark", "dark") in seen
    assert window.settings.value("theme") == seen[-1][0]


def test_type_grows_and_everything_with_it(window: Window) -> None:
    before, row = QApplication.font().pointSizeF(), tokens.ROW_HEIGHT
    try:
        for _ in range(5):
            keys(window, "Ctrl++")
        assert QApplication.font().pointSizeF() == pytest.approx(before * 1.5) and row < tokens.ROW_HEIGHT
        assert window.minimumSizeHint().width() <= 1280
        for _ in range(9):
            keys(window, "Ctrl++")
        assert window.settings.value("scale") == 200
    finally:
        window.settings.setValue("scale", 100)
        window.apply_scale()
    assert QApplication.font().pointSizeF() == before and row == tokens.ROW_HEIGHT


def test_flow_goes_on_in_a_new_line(qtbot) -> None:  # type: ignore[no-untyped-def]
    holder = QWidget()
    qtbot.addWidget(holder)
    flow = FlowLayout(holder)
    for i in range(6):
        label = QLabel("word " * 4 + str(i))
        flow.addWidget(label)
    narrow, wide = flow.heightForWidth(150), flow.heightForWidth(5000)
    assert narrow > 3 * wide and flow.count() == 6 and flow.itemAt(9) is None
    flow.insert(1, QLabel("in between"))
    assert flow.itemAt(1).widget().text() == "in between"  # type: ignore[union-attr]
    assert flow.takeAt(1) is not None and flow.takeAt(77) is None
    holder.resize(150, 400)
    holder.show()
    ys = {flow.itemAt(i).geometry().y() for i in range(6)}  # type: ignore[union-attr]
    assert len(ys) > 1


def test_the_model_answers_for_rows_that_are_not_there(examined: Window) -> None:
    model = examined.session.model
    assert model.row_at(-1) is None and model.row_at(99) is None
    assert model.strip_at(99) == () and model.thumb_at(99) is None
    assert model.place_of(10**9) == -1 and model.data(QModelIndex()) is None


def test_all_alike_are_chosen_in_one_act(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    for folder in ("a", "b"):
        (place / folder).mkdir(parents=True)
        (place / folder / "one.jpg").write_bytes(healthy("jpeg"))
        (place / folder / f"{folder}.txt").write_text(f"words of {folder}\n" * 9)
    run(window, place)
    triage = window.triage
    triage.order_by(SortKey.NAME)
    triage.point_at(next(r.id for r in window.session.model.all_rows() if r.path.endswith("a/one.jpg")))

    def chosen() -> set[str]:
        numbers = set(triage.selected_numbers())
        return {"/".join(r.path.split("/")[-2:]) for r in window.session.model.all_rows() if r.id in numbers}

    triage.table.setFocus()
    keys(triage.table, "Ctrl+Shift+F")
    assert chosen() == {"a/one.jpg", "a/a.txt"}
    keys(triage.table, "Ctrl+Shift+T")
    assert chosen() == {"a/one.jpg", "b/one.jpg"}
    keys(triage.table, "Ctrl+I")
    assert chosen() == {"a/a.txt", "b/b.txt"}
    keys(triage.table, "Ctrl+Shift+C")
    assert chosen() == {"a/one.jpg", "b/one.jpg"}


def test_an_error_inside_is_told_and_logged(
    window: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    import sys

    from jugal.app import main

    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    monkeypatch.setattr(main, "user_log_path", lambda _: tmp_path)
    monkeypatch.setattr(main.faulthandler, "enable", lambda *_: None)
    main._catch_errors(window)
    try:
        raise KeyError("the reason")
    except KeyError as error:
        sys.excepthook(type(error), error, error.__traceback__)
    assert "KeyError" in window.words.text() and str(tmp_path / "jugal.log") in window.words.text()
    assert "the reason" in caplog.text


def test_a_window_that_was_not_closed_says_so_next_time(window: Window) -> None:
    case = window.session.case
    assert case is not None and case.get("window") == "open"
    said: list[str] = []
    window.session.said.connect(said.append)
    path = case.path
    assert window.session.open_case(path) and not said, "opened again by hand is no accident"
    case = window.session.case
    assert case is not None
    other = Case(path.with_name("other.jugal"))
    other.put("window", "open")
    other.close()
    assert window.session.open_case(path.with_name("other.jugal"))
    assert "not closed properly" in said[-1]


def test_columns_follow_the_window_at_once(examined: Window) -> None:
    """In a wide window the name has room and the format is shown; in a narrow one the strip keeps its own."""
    triage, table = examined.triage, examined.triage.table
    examined.go("triage")
    for width, name_room, with_format in ((1280, tokens.scaled(290), True), (900, tokens.scaled(140), False)):
        examined.resize(width, 800)
        until(lambda w=width: examined.width() == w)
        assert table.columnWidth(NAME) >= name_room and table.isColumnHidden(FORMAT) is not with_format
        assert sum(table.columnWidth(c) for c in range(7) if not table.isColumnHidden(c)) <= table.viewport().width()
    triage.point_at(number_of(examined, "hole.jpg"))
    row = table.currentIndex().row()
    told = table.model().index(row, NAME).data(DetailRole)[0][0].message
    box = QRect(0, 0, table.columnWidth(NAME) - 14, 10_000)
    needed = table.fontMetrics().boundingRect(box, Qt.TextFlag.TextWordWrap, told).height()
    assert table.rowHeight(row) >= needed + table.fontMetrics().height(), "the whole finding can be read"
