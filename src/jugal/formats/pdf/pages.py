"""The page tree (ISO 32000-2 clause 7.7.3) and what each page needs to be shown whole."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from jugal.formats.pdf.objects import Ref, Stream
from jugal.formats.pdf.parse import Document, dictionary_of

_MAX_NODES = 200_000
_MAX_RESOURCES = 5000


@dataclass(slots=True)
class PageTree:
    """Pages in order (object numbers, 0 for direct ones), what was missing on the way, and a loop if there is one."""

    root: int | None = None
    pages: list[tuple[int, dict[str, Any]]] = field(default_factory=list)
    stated: int = 0
    missing: list[int] = field(default_factory=list)
    loop_at: int | None = None


def catalogue(document: Document) -> dict[str, Any]:
    """The document catalogue that the trailer names; empty where it is lost."""
    found = dictionary_of(document.resolve(document.trailer.get("Root")))
    return found if "Pages" in found else {}


def stray_catalogue(document: Document) -> int | None:
    """Object number of a catalogue that no trailer leads to, the last in the file."""
    for number, located in sorted(document.objects.items(), key=lambda x: -x[1].start):
        found = dictionary_of(located.value)
        if found.get("Type") == "Catalog" and "Pages" in found:
            return number
    return None


def walk_pages(document: Document, root: dict[str, Any]) -> PageTree:
    """Walks the tree below ``root`` with an explicit stack; nodes met twice are a loop."""
    tree = PageTree()
    first = root.get("Pages")
    if not isinstance(first, Ref):
        return tree
    tree.root = first.number
    top = dictionary_of(document.resolve(first))
    stated = document.resolve(top.get("Count"))
    tree.stated = stated if isinstance(stated, int) and 0 <= stated < 1_000_000 else 0
    stack: list[tuple[Any, dict[str, Any]]] = [(first, {})]
    seen: set[int] = set()
    while stack and len(tree.pages) + len(seen) < _MAX_NODES:
        value, inherited = stack.pop()
        number = value.number if isinstance(value, Ref) else 0
        if number:
            if number in seen:
                tree.loop_at = number
                continue
            seen.add(number)
        node = dictionary_of(document.resolve(value))
        if not node:
            tree.missing.append(number)
            continue
        passed = {k: node[k] for k in ("Resources",) if k in node}
        kids = document.resolve(node.get("Kids"))
        if isinstance(kids, list) and node.get("Type") != "Page":
            stack.extend((kid, {**inherited, **passed}) for kid in reversed(kids[:_MAX_NODES]))
        else:
            tree.pages.append((number, {**inherited, **node}))
    return tree


def needed_streams(document: Document, page: dict[str, Any]) -> Iterator[tuple[int, Any]]:
    """(object number, value) of all that a page's content hangs on: contents, fonts with their files, images, forms.

    Missing objects come with the value None.
    """
    contents = page.get("Contents")
    resolved = document.resolve(contents)
    parts = resolved if isinstance(resolved, list) else ([contents] if contents is not None else [])
    queue: list[Any] = list(parts)
    resources = dictionary_of(document.resolve(page.get("Resources")))
    queue.append(page.get("Resources"))
    queue += _resource_values(document, resources)
    seen: set[int] = set()
    while queue and len(seen) < _MAX_RESOURCES:
        value = queue.pop()
        if not isinstance(value, Ref) or value.number in seen:
            continue
        seen.add(value.number)
        found = document.resolve(value)
        yield value.number, found
        dictionary = dictionary_of(found)
        if isinstance(found, Stream):
            if dictionary.get("Subtype") == "Form":
                queue += _resource_values(document, dictionary_of(document.resolve(dictionary.get("Resources"))))
            queue.append(dictionary.get("SMask"))
        else:
            descriptor = dictionary_of(document.resolve(dictionary.get("FontDescriptor")))
            queue += [descriptor.get(k) for k in ("FontFile", "FontFile2", "FontFile3")]
            descendants = document.resolve(dictionary.get("DescendantFonts"))
            queue += descendants if isinstance(descendants, list) else []


def _resource_values(document: Document, resources: dict[str, Any]) -> list[Any]:
    values: list[Any] = [v for v in resources.values() if isinstance(v, Ref)]
    for kind in ("Font", "XObject"):
        values += list(dictionary_of(document.resolve(resources.get(kind))).values())[:_MAX_RESOURCES]
    return values
