"""The bench in the real window: everything points at the same byte, versions are wiped, played, kept and reviewed."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import av
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from conftest import examine, healthy, keys, number_of, run, until
from jugal.app.bridge.decode import Preview, render
from jugal.app.bridge.packages import package_text, read_package
from jugal.app.bridge.player import Player
from jugal.app.controllers.session import Task
from jugal.app.style.tokens import DARK, LIGHT
from jugal.app.views.bench import offset_of, share_of
from jugal.app.views.window import Window
from jugal.app.widgets.hexview import HexView
from jugal.app.widgets.picture import PictureView
from jugal.app.widgets.timeline import Timeline, clock, lost_share
from jugal.model.result import Anchor, Kind, Region, RepairStatus
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter, StripSpan
from jugal.samples import encode
from jugal.samples.harm import harm

# Widgets by themselves


@pytest.fixture
def some_file(tmp_path: Path) -> Path:
    path = tmp_path / "some.bin"
    path.write_bytes(bytes(range(256)) * 40)
    return path


def test_bytes_are_shown_walked_and_described(qtbot, some_file: Path) -> None:  # type: ignore[no-untyped-def]
    view = HexView(LIGHT)
    qtbot.addWidget(view)
    view.resize(700, 200)
    spans = (StripSpan(ByteSpan(0, 512), Matter.STRUCTURE, "head"), StripSpan(ByteSpan(512, 10240), Matter.HOLE))
    view.set_file(str(some_file), spans)
    view.show()
    moves: list[int] = []
    view.moved.connect(moves.append)
    QTest.keyClick(view, Qt.Key.Key_Right)
    QTest.keyClick(view, Qt.Key.Key_Down)
    assert moves == [1, 17] and "value 11, structure head" in view.accessibleDescription()
    QTest.keyClick(view, Qt.Key.Key_End)
    assert view.offset == 10239 and "hole" in view.accessibleDescription()
    first = view.grab().toImage()
    QTest.keyClick(view, Qt.Key.Key_PageUp)
    QTest.keyClick(view, Qt.Key.Key_Home)
    assert view.offset == 0 and view.grab().toImage() != first
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(200, 30))
    assert view.offset >= 16 and moves[-1] == view.offset
    view.point_at(99_999)
    assert view.offset == 10239
    view.set_theme(DARK)
    view.set_file("/nowhere/at all")
    assert "value" not in view.accessibleDescription()
    view.set_file(None)
    view.close_file()


def test_a_large_file_can_be_walked_to_its_end(qtbot, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "large.bin"
    with open(path, "wb") as stream:
        stream.truncate(40 << 30)
    view = HexView(LIGHT)
    qtbot.addWidget(view)
    view.resize(600, 160)
    view.set_file(str(path))
    view.point_at((40 << 30) - 1)
    assert view.offset == (40 << 30) - 1 and not view.grab().isNull()
    view.close_file()


def test_the_time_line_seeks_and_says_what_is_lost(qtbot) -> None:  # type: ignore[no-untyped-def]
    line = Timeline(LIGHT)
    qtbot.addWidget(line)
    line.resize(400, 40)
    line.set_track(100.0, (Region(0.5, 0.6, "50 s to 60 s"),))
    assert "10.0 s lost in 1" in line.accessibleDescription() and clock(75.25) == "1:15.2"
    both = (
        Region(0.5, 0.6, "picture"),
        Region(0.55, 0.7, "sound"),
        Region(0.52, 0.53, "more"),
        Region(0.9, 1.0, "end"),
    )
    assert lost_share(both) == pytest.approx(0.3) and lost_share(()) == 0.0
    sought: list[float] = []
    line.sought.connect(sought.append)
    QTest.mouseClick(line, Qt.MouseButton.LeftButton, pos=QPoint(200, 8))
    assert sought[-1] == pytest.approx(50, abs=0.5)
    QTest.keyClick(line, Qt.Key.Key_Right)
    assert sought[-1] == pytest.approx(51, abs=0.5)
    QTest.keyClick(line, Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
    assert sought[-1] == pytest.approx(41, abs=0.5)
    QTest.keyClick(line, Qt.Key.Key_End)
    QTest.keyClick(line, Qt.Key.Key_Home)
    assert sought[-2:] == [100.0, 0.0] and line.at == 0.0 and line.length == 100.0
    line.set_theme(DARK)
    assert not line.grab().isNull()


def test_two_versions_are_wiped_by_mouse_and_keys(qtbot) -> None:  # type: ignore[no-untyped-def]
    view = PictureView(LIGHT, "Picture")
    qtbot.addWidget(view)
    view.resize(400, 300)
    view.set_preview(Preview(40, 30, bytes([40]) * 3600))
    plain = view.grab().toImage()
    second = QImage(40, 30, QImage.Format.Format_RGB32)
    second.fill(Qt.GlobalColor.white)
    view.set_second(second)
    wiped = view.grab().toImage()
    assert wiped.pixelColor(20, 150) == plain.pixelColor(20, 150) != wiped.pixelColor(380, 150)
    QTest.keyClick(view, Qt.Key.Key_Period)
    QTest.keyClick(view, Qt.Key.Key_Period)
    assert view.wipe == pytest.approx(0.6)
    QTest.keyClick(view, Qt.Key.Key_Comma)
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(220, 100))
    QTest.mouseMove(view, QPoint(100, 100))
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(100, 100))
    assert view.wipe == pytest.approx(0.25)
    view.set_second(None)
    picked: list[tuple[float, float]] = []
    view.picked.connect(lambda x, y: picked.append((x, y)))
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPoint(200, 75))
    assert picked == [(pytest.approx(0.5, abs=0.01), pytest.approx(0.25, abs=0.01))]


def test_anchors_lead_both_ways() -> None:
    anchors = (Anchor(100, 0.0), Anchor(200, 0.5), Anchor(400, 1.0))
    assert share_of(anchors, 150) == 0.25 and share_of(anchors, 300) == 0.75
    assert share_of(anchors, 50) is None and share_of(anchors, 500) is None and share_of((), 1) is None
    assert offset_of(anchors, 0.75) == 300 and offset_of((), 0.5) is None


@pytest.mark.parametrize("name", ["jpeg", "jpeg-restart", "jpeg-grey", "mp4", "wav", "mp3", "flac", "m4a"])
def test_every_kind_with_rows_or_time_has_anchors(name: str) -> None:
    e = examine(healthy(name), f"x.{name[:4]}")
    offsets, shares = [a.offset for a in e.anchors], [a.share for a in e.anchors]
    assert 2 <= len(offsets) <= 330 and offsets == sorted(offsets)
    assert shares[0] == 0.0 and 0.9 < max(shares) <= 1.0
    if name == "wav":
        assert shares[-1] == 1.0 and offsets[0] == 44


def test_words_and_members_of_packages_are_read_even_where_they_are_damaged(tmp_path: Path) -> None:
    def text(name: str, data: bytes) -> str:
        path = tmp_path / f"x.{name}"
        path.write_bytes(data)
        return package_text(read_package(str(path)), name)

    whole = text("docx", healthy("docx"))
    assert "survey" in whole and "whole" in whole and "word/document.xml" in whole
    lost = text("docx", harm(healthy("docx"), "docx", "no-directory", 5).data)
    assert whole.split("\n")[1] in lost
    sheet = text("xlsx", healthy("xlsx"))
    assert "Sheet 1" in sheet and any("\t" in line for line in sheet.splitlines())
    assert "members" in text("zip", healthy("zip")) and "survey" in text("odt", healthy("odt")).casefold()
    broken = text("zip", harm(healthy("zip"), "zip", "zero-cluster", 7).data)
    assert any(word in broken for word in ("breaks off", "does not match", "cut short", "header is lost"))


def test_pictures_inside_documents_are_pages_of_their_own(tmp_path: Path) -> None:
    path = tmp_path / "x.docx"
    path.write_bytes(healthy("docx"))
    words = render(str(path), "docx", "document")
    assert words.pages >= 2 and "survey" in words.text
    picture = render(str(path), "docx", "document", 1.5 / words.pages)
    assert picture.width > 50 and picture.pages == words.pages
    path.write_bytes(harm(healthy("docx"), "docx", "no-directory", 5).data)
    assert render(str(path), "docx", "document", 1.5 / words.pages).width > 50


# Playing


@pytest.fixture
def player(qapp: QApplication):  # type: ignore[no-untyped-def]
    made = Player(sounding=False)
    yield made
    made.stop()
    made.deleteLater()


def test_a_clip_plays_stands_still_and_ends(player: Player, tmp_path: Path) -> None:
    path = tmp_path / "clip.mp4"
    path.write_bytes(healthy("mp4"))
    pictures: list[int] = []
    times: list[float] = []
    ended: list[str] = []
    player.pictured.connect(lambda image: pictures.append(image.width()))
    player.moved.connect(times.append)
    player.ended.connect(ended.append)
    player.play(str(path))
    until(lambda: len(pictures) > 4)
    player.pause()
    assert player.active and not player.playing
    stood = player.seconds
    for _ in range(10):
        QApplication.processEvents()
        time.sleep(0.01)
    assert player.seconds == stood
    player.pause()
    until(lambda: bool(ended))
    assert ended == [""] and not player.active and len(pictures) > 15
    assert times == sorted(times) and times[-1] >= 1.8


def test_playing_from_the_middle_and_after_an_end(player: Player, tmp_path: Path) -> None:
    path = tmp_path / "clip.mp4"
    path.write_bytes(healthy("mp4"))
    times: list[float] = []
    ended: list[str] = []
    player.moved.connect(times.append)
    player.ended.connect(ended.append)
    player.play(str(path), 1.2)
    until(lambda: bool(times))
    assert 1.1 <= times[0] <= 1.6
    until(lambda: bool(ended))
    player.play(str(path))
    until(lambda: times[-1] < 0.5)


def test_what_kills_the_decoder_ends_the_playing_only(player: Player, tmp_path: Path) -> None:
    path = tmp_path / "long.mp4"
    path.write_bytes(healthy("mp4-long"))
    times: list[float] = []
    ended: list[str] = []
    player.moved.connect(times.append)
    player.ended.connect(ended.append)
    player.play(str(path))
    until(lambda: bool(times))
    os.kill(player._process.pid, signal.SIGKILL)
    player._begun -= 100
    until(lambda: bool(ended))
    assert "died" in ended[0]
    junk = tmp_path / "junk.mp4"
    junk.write_bytes(b"\0" * 5000)
    player.play(str(junk))
    until(lambda: len(ended) == 2)
    assert "cannot be played" in ended[1] and not player.active


def test_a_line_holds_fewer_bytes_where_there_is_no_room(qtbot, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / "x.bin"
    path.write_bytes(bytes(range(256)) * 40)
    view = HexView(LIGHT)
    qtbot.addWidget(view)
    view.resize(900, 200)
    view.set_file(str(path))
    view.show()
    view.point_at(4096 + 13)
    QTest.keyClick(view, Qt.Key.Key_Down)
    assert view.offset == 4096 + 13 + 16
    view.resize(340, 200)
    until(lambda: view.viewport().width() < 340)
    QTest.keyClick(view, Qt.Key.Key_Down)
    assert view.offset == 4096 + 13 + 24
    font = view.font()
    font.setPointSizeF(2 * font.pointSizeF())
    tall = view._line()
    view.setFont(font)
    assert view._line() > 1.6 * tall, "bytes grow with the type"
    view.close_file()


# In the window


def test_everything_points_at_the_same_byte(examined: Window) -> None:
    bench = examined.bench
    examined.take_to_bench(number_of(examined, "hole.jpg"))
    e = bench._examination
    assert e is not None and e.findings[0].span is not None
    start = e.findings[0].span.start
    bench.findings.setCurrentRow(0)
    assert bench.bytes.offset == start and bench.strip._cursor == start
    assert e.strip[bench.outline.currentRow()].span.start <= start < e.strip[bench.outline.currentRow()].span.end
    share = share_of(e.anchors, start)
    assert share is not None and bench.stage.before.picture._row == pytest.approx(share)
    bench.outline.setCurrentRow(0)
    assert bench.bytes.offset == e.strip[0].span.start and bench.findings.currentRow() == -1
    bench.bytes.setFocus()
    QTest.keyClick(bench.bytes, Qt.Key.Key_End)
    assert bench.strip._cursor == e.size - 1
    bench.stage.before.picture.picked.emit(0.5, 0.5)
    assert bench.bytes.offset == offset_of(e.anchors, 0.5)
    bench.strip.picked.emit(start)
    assert bench.findings.currentRow() == 0
    keys(bench, "Ctrl+B")
    assert not bench.inside.isVisible()


def test_all_methods_are_tried_and_one_is_kept(examined: Window) -> None:
    bench, session = examined.bench, examined.session
    number = number_of(examined, "hole.jpg")
    examined.take_to_bench(number)
    ended: list[str] = []
    session.repair_ended.connect(ended.append)
    e = session.examination(number)
    assert e is not None
    session.repair([Task(number, p.method) for p in e.repairs] * 2)
    until(lambda: bool(ended))
    good = bench._good()
    assert len(good) >= 2 and sum(r.kept for r in good) == 1
    assert bench.results.count() == len(good)
    until(lambda: bench.stage.after.picture.image is not None)
    assert bench.stage.after.isVisible()
    keys(bench, "Ctrl+E")
    assert not bench.stage.after.isVisible() and bench.stage.before.picture._second is not None
    keys(bench, "Ctrl+E")
    assert bench.stage.after.isVisible()
    first = next(i for i, r in enumerate(good) if not r.kept)
    bench.results.setCurrentRow(first)
    assert "not kept" in bench.stage.after.caption.text()
    bench.results.setFocus()
    keys(bench.results, "Ctrl+K")
    assert [r.kept for r in bench._good()].index(True) == first
    keys(bench.results, "Ctrl+Shift+K")
    assert not any(r.kept for r in bench._good())
    keys(bench.results, "Ctrl+Z")
    assert [r.kept for r in bench._good()].index(True) == first
    keys(bench.results, "Ctrl+Z")
    keys(bench.results, "Ctrl+Z")
    assert "nothing to take back" in examined.words.text()


def test_a_batch_is_planned_done_and_gone_through(examined: Window) -> None:
    session, batch, bench = examined.session, examined.triage.batch, examined.bench
    examined.go("triage")
    keys(examined.triage.table, "Ctrl+Shift+R")
    assert batch.isVisible() and batch.table.rowCount() >= 3
    names = [batch.table.item(r, 0).text() for r in range(batch.table.rowCount())]
    assert "junk.jpg" in names and "whole.jpg" not in names
    gains = [float(batch.table.item(r, 3).text()) - float(batch.table.item(r, 2).text()) for r in range(len(names))]
    assert gains == sorted(gains, reverse=True)
    skipped = names.index("clip.mp4")
    batch.table.item(skipped, 0).setCheckState(Qt.CheckState.Unchecked)
    assert len(batch.chosen()) == len(names) - 1
    ended: list[str] = []
    session.repair_ended.connect(ended.append)
    batch.start.click()
    until(lambda: bool(ended))
    assert "measured" in batch.table.item(names.index("junk.jpg"), 5).text()
    assert batch.table.item(skipped, 5).text() == ""
    assert batch.look.isVisible() and not batch.start.isVisible()
    batch.look.click()
    assert examined.stack.currentWidget() is bench and bench.reviewing == batch._done
    begun = bench.number
    assert "Review, 1 of" in bench.review_words.text()
    bench.results.setFocus()
    keys(bench.results, "Ctrl+Shift+K")
    assert bench.number != begun, "the next follows"
    keys(bench, "Ctrl+Up")
    assert bench.number == begun
    while bench.reviewing:
        keep = bench.number
        bench.keep_result() if bench.keep.isEnabled() else bench._next_in_review()
        assert bench.number != keep or not bench.reviewing
    assert "The review is through" in examined.words.text()
    batch.shut.click()
    assert not batch.isVisible()


def test_a_donor_is_proposed_with_a_reason_and_can_be_chosen(window: Window, tmp_path: Path) -> None:
    place, lenders = tmp_path / "in", tmp_path / "lenders"
    place.mkdir()
    lenders.mkdir()
    (place / "lost.jpg").write_bytes(harm(healthy("jpeg"), "jpeg", "no-header", 4).data)
    (lenders / "L1.jpg").write_bytes(healthy("jpeg"))
    window.session.set_donor_folders([])
    run(window, place)
    number = number_of(window, "lost.jpg")
    window.take_to_bench(number)
    row = next(i for i, p in enumerate(window.bench._examination.repairs) if p.needs_donor)  # type: ignore[union-attr]
    window.bench.plans.setCurrentRow(row)
    assert "No healthy file" in window.bench.donor_words.text()
    window.session.set_donor_folders([str(lenders)])
    until(lambda: len(window.session.lenders) == 1)
    assert window.intake.list.count() == 2 and "donors" in window.intake.list.item(1).text()
    window.take_to_bench(number)
    window.bench.plans.setCurrentRow(row)
    assert window.bench.donor.count() == 2 and "L1.jpg" in window.bench.donor_words.text()
    window.bench.donor.setCurrentIndex(1)
    ended: list[str] = []
    window.session.repair_ended.connect(ended.append)
    window.bench.do_repair()
    until(lambda: bool(ended))
    done = window.session.repairs(number)
    assert done and done[-1].outcome.donor == str(lenders / "L1.jpg")
    window.go("intake")
    window.intake.list.setCurrentRow(1)
    window.intake.remove_current()
    assert window.session.donor_folders == [] and window.session.sources == [str(place)]


def test_clips_repaired_from_now_on_begin_with_their_index(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    (place / "a.mp4").write_bytes(harm(healthy("mp4"), "mp4", "offsets-shifted", 3).data)
    run(window, place)
    number, ended = number_of(window, "a.mp4"), list[str]()
    window.session.repair_ended.connect(ended.append)
    turn = window.actions_by_name["repair.front"]
    assert turn.isCheckable() and not turn.isChecked()
    for done, on in enumerate((True, False), 1):
        keys(window, "Ctrl+Alt+F")
        assert turn.isChecked() is window.session.in_front is on
        assert ("begin with their index" in window.words.text()) is on
        window.session.repair([Task(number)])
        until(lambda: len(ended) == done)  # noqa: B023
        outcome = window.session.repairs(number)[-1].outcome
        assert outcome.output and ("index-in-front" in str(outcome.method)) is on
        data = Path(outcome.output).read_bytes()
        assert (data.index(b"moov") < data.index(b"mdat")) is on


def test_pages_and_time_are_shown_for_what_has_them(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    (place / "a.pdf").write_bytes(encode.pdf(4, 3))
    (place / "b.mp4").write_bytes(healthy("mp4"))
    run(window, place)
    stage = window.bench.stage
    window.take_to_bench(number_of(window, "a.pdf"))
    assert stage.page.isVisible() and stage.page.maximum() == 4 and not stage.play.isVisible()
    until(lambda: stage.before.picture.image is not None)
    first = stage.before.picture.image
    keys(window.bench, "Ctrl+PgDown")
    assert stage.page.value() == 2
    until(lambda: stage.before.picture.image is not None and stage.before.picture.image != first)
    window.take_to_bench(number_of(window, "b.mp4"))
    assert stage.play.isVisible() and not stage.page.isVisible() and stage.timeline.length == pytest.approx(2, abs=0.2)
    until(lambda: stage.before.picture.image is not None)
    keys(window.bench, "Ctrl+Y")
    until(lambda: stage.timeline.at > 0.3)
    assert stage.play.text() == "Pause"
    keys(window.bench, "Ctrl+Y")
    assert stage.play.text() == "Play" and stage.players["before"].active
    window.go("triage")
    assert not stage.players["before"].active, "leaving the bench ends the playing"
    assert all(
        window.session.small_picture(r.id) is not None
        for r in window.session.model.all_rows()
        if r.kind is not Kind.OTHER
    )


def test_the_rate_of_an_estimate_is_asked_for_beside_it(window: Window, tmp_path: Path) -> None:
    place = tmp_path / "in"
    place.mkdir()
    (place / "lost.mp4").write_bytes(harm(healthy("mp4"), "mp4", "no-index", 4).data)
    window.session.set_donor_folders([])
    run(window, place)
    number = number_of(window, "lost.mp4")
    window.go("bench")
    window.take_to_bench(number)
    bench = window.bench
    methods = [p.method for p in bench._examination.repairs]  # type: ignore[union-attr]
    bench.plans.setCurrentRow(methods.index("rebuild-index"))
    assert not bench.rate.isVisible(), "a donor brings its own"
    bench.plans.setCurrentRow(methods.index("estimate-index"))
    assert bench.rate.isVisible() and bench.rate.text() == "Rate as the data tell it"
    bench.rate.setFocus()
    bench.rate.selectAll()
    QTest.keyClicks(bench.rate, "12.5")
    QTest.keyClick(bench.rate, Qt.Key.Key_Return)
    ended: list[str] = []
    window.session.repair_ended.connect(ended.append)
    bench.do_repair()
    until(lambda: bool(ended))
    (done,) = window.session.repairs(number)
    assert done.outcome.method == "estimate-index@12.5" and done.outcome.status is RepairStatus.REPAIRED, (
        done.outcome.error
    )
    with av.open(str(done.outcome.output)) as file:
        assert float(file.streams.video[0].average_rate or 0) == pytest.approx(12.5, rel=0.03)
    window.take_to_bench(number)
    assert bench.rate.value() == 0, "a rate asked for one file is not taken to the next"
