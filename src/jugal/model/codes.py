"""The closed list of finding codes, each with what it means, and the causes a finding may name."""

from __future__ import annotations

from enum import StrEnum


class Cause(StrEnum):
    """How the damage probably came about."""

    UNREADABLE = "unreadable sectors filled while copying"
    OVERWRITTEN = "clusters overwritten or a wrong cluster chain"
    CLUSTERS_LOST = "clusters missing from the chain"
    STOPPED = "recording stopped before the file was finished"
    CUT_SHORT = "copy broken off or carved with a wrong end"
    NO_KNOWN_END = "carved with no known end"
    START_OVERWRITTEN = "start overwritten"
    BIT_ERROR = "transmission or memory error"
    SOMETHING_ELSE = "the whole file is something else"


class FindingCode(StrEnum):
    """Every code with the sentence that explains it."""

    meaning: str

    def __new__(cls, value: str, meaning: str) -> FindingCode:
        member = str.__new__(cls, value)
        member._value_ = value
        member.meaning = meaning
        return member

    # Any file
    EMPTY = "file.empty", "The file holds no bytes."
    ONE_BYTE = "file.one-byte", "Every byte of the file is the same."
    FILLER = "file.filler", "One short text is repeated where content should be."
    HOLE = "file.hole", "A run of one byte value, aligned to sectors, stands where content should be."
    FOREIGN = "file.foreign", "From a sector boundary on, the bytes look like another file's."
    TAIL = "file.tail", "Bytes follow the complete file that do not belong to it."
    NAME = "file.name", "The name says another format than the content."
    UNKNOWN = "file.unknown", "No known format fits the content."
    STATISTICS_ONLY = "file.statistics-only", "The format is known but only its byte statistics were judged."
    BUDGET = "file.budget", "The examination stopped at a limit of time, size or count."
    EXAMINER = "file.examiner", "The examiner failed on this file; only its statistics were judged."

    # JPEG
    JPEG_SOI = "jpeg.soi", "The start-of-image marker is missing."
    JPEG_BEFORE = "jpeg.before", "Other bytes stand before the picture's start."
    JPEG_EOI = "jpeg.eoi", "The end-of-image marker is missing."
    JPEG_SEGMENT = "jpeg.segment", "A marker segment's length does not lead to the next marker."
    JPEG_BETWEEN = "jpeg.between", "Bytes that are no marker stand between two segments."
    JPEG_HEADER = "jpeg.header", "The header that the decoder needs is missing or unusable."
    JPEG_TABLES = "jpeg.tables", "A table that the scan uses is missing or malformed."
    JPEG_CODE = "jpeg.code", "The entropy-coded data holds a code that no table knows."
    JPEG_MARKER = "jpeg.marker", "A marker that has no place there interrupts the entropy-coded data."
    JPEG_SHORT = "jpeg.short", "The entropy-coded data ends before the picture is complete."
    JPEG_SURPLUS = "jpeg.surplus", "Entropy-coded data is left over after the picture is complete."
    JPEG_RESTART = "jpeg.restart", "Restart markers are missing, doubled or out of order."
    JPEG_HOLE = "jpeg.hole", "A run of one byte value lies in the entropy-coded data."
    JPEG_FOREIGN = "jpeg.foreign", "Foreign bytes lie in the entropy-coded data."
    JPEG_BREAK = "jpeg.break", "The decoded picture breaks: from here on it is displaced or discoloured."
    JPEG_EXIF = "jpeg.exif", "The Exif data is damaged; the picture is not affected."
    JPEG_FURTHER = "jpeg.further", "The index of further pictures does not lead to them."
    JPEG_WALKED = "jpeg.walked", "This coding is recognised and walked, not decoded."
    JPEG_PREVIEW = "jpeg.preview", "The picture is smaller than its Exif data says."

    # PNG
    PNG_SIGNATURE = "png.signature", "The signature is missing or altered."
    PNG_CHUNK = "png.chunk", "The chain of chunks breaks."
    PNG_HEADER = "png.header", "The IHDR chunk is missing or impossible."
    PNG_CRC = "png.crc", "A chunk's data does not match its CRC."
    PNG_CRC_ONLY = "png.crc-only", "A chunk's CRC is wrong though its data is good."
    PNG_DATA = "png.data", "The compressed picture data breaks."
    PNG_SHORT = "png.short", "The picture data ends before the last row."
    PNG_SURPLUS = "png.surplus", "More picture data than rows."
    PNG_END = "png.end", "The IEND chunk is missing."

    # ISO base media
    BOX_SIZE = "box.size", "A box's size does not fit its parent or the file."
    BOX_DEPTH = "box.depth", "Boxes are nested deeper than any writer does."
    MP4_FTYP = "mp4.ftyp", "The file type box is missing."
    MP4_INDEX = "mp4.index", "The movie index (moov) is missing."
    MP4_INDEX_BROKEN = "mp4.index-broken", "The movie index (moov) is there but broken."
    MP4_MEDIA = "mp4.media", "No media data is left."
    MP4_TABLES = "mp4.tables", "The sample tables contradict each other."
    MP4_OUTSIDE = "mp4.outside", "The index points past the end of the file."
    MP4_SHIFTED = "mp4.shifted", "The chunk offsets are off by a constant."
    MP4_SAMPLE = "mp4.sample", "A sample's payload is not what its codec allows."
    MP4_HOLE = "mp4.hole", "A filled run lies inside the media data."
    MP4_FRAGMENT = "mp4.fragment", "A movie fragment is broken or incomplete."

    # RIFF WAVE
    WAV_SIZE = "wav.size", "A size field of the RIFF structure is wrong."
    WAV_HEADER = "wav.header", "The header (RIFF, fmt) is missing or impossible."
    WAV_DATA = "wav.data", "The sound data chunk is missing or empty."
    WAV_SHORT = "wav.short", "The sound data ends before the length its header gives."
    WAV_HOLE = "wav.hole", "The sound is cut out at sector boundaries."
    WAV_FOREIGN = "wav.foreign", "Bytes that are not this recording lie in the sound data."

    # MP3
    MP3_JUNK = "mp3.junk", "Bytes that are no frame lie between frames."
    MP3_SHORT = "mp3.short", "The last frame is cut off."
    MP3_COUNT = "mp3.count", "Fewer frames are there than the file's own count says."
    MP3_HOLE = "mp3.hole", "A filled run lies in the frames."

    # FLAC
    FLAC_BEFORE = "flac.before", "Other bytes stand before the stream's start."
    FLAC_MARKER = "flac.marker", "The stream marker is missing."
    FLAC_METADATA = "flac.metadata", "A metadata block is broken."
    FLAC_STREAMINFO = "flac.streaminfo", "The STREAMINFO block is missing or impossible."
    FLAC_FRAME = "flac.frame", "A frame fails its CRC."
    FLAC_GAP = "flac.gap", "Bytes that are no frame lie between frames."
    FLAC_LOST = "flac.lost", "Frames are missing from the sequence."
    FLAC_SHORT = "flac.short", "The stream ends before its stated length."

    # PDF
    PDF_HEADER = "pdf.header", "The header line is missing or not at the start."
    PDF_XREF = "pdf.xref", "The cross-reference table cannot be used."
    PDF_OFFSET = "pdf.offset", "Cross-reference entries do not lead to their objects."
    PDF_TRAILER = "pdf.trailer", "The trailer or its catalogue is missing."
    PDF_PAGES = "pdf.pages", "The page tree is broken."
    PDF_LOOP = "pdf.loop", "The page tree leads back into itself."
    PDF_OBJECT = "pdf.object", "An object that is referred to is missing."
    PDF_STREAM = "pdf.stream", "A stream's data is damaged."
    PDF_LENGTH = "pdf.length", "A stream's length is wrong."
    PDF_EOF = "pdf.eof", "The end of the file is missing."
    PDF_ENCRYPTED = "pdf.encrypted", "The document is encrypted; only its structure was judged."

    # ZIP and packages
    ZIP_END = "zip.end", "The end record is missing or damaged."
    ZIP_DIRECTORY = "zip.directory", "The central directory is missing or damaged."
    ZIP_LOCAL = "zip.local", "A member's local header is missing or contradicts the directory."
    ZIP_MEMBER = "zip.member", "A member's compressed data breaks."
    ZIP_CRC = "zip.crc", "A member's content does not match its CRC."
    ZIP_BOMB = "zip.bomb", "A member inflates beyond every reasonable size."
    ZIP_ENCRYPTED = "zip.encrypted", "Members are encrypted; their content was not judged."
    ZIP_METHOD = "zip.method", "A member's compression method is not covered."
    PACKAGE_PART = "package.part", "A part that the document needs is missing."
    PACKAGE_XML = "package.xml", "A part's XML is not well formed."

    # Text and markup
    TEXT_BINARY = "text.binary", "Bytes that are no text lie in the text."
    TEXT_FORM = "text.form", "The text ends or breaks where its form does not allow it."
