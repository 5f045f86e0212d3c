"""Help: a page on each step, the shortcuts as a sheet, and what the program is made of."""

import importlib.metadata
import platform
from pathlib import Path

from PyQt6.QtCore import QT_VERSION_STR, Qt, QUrl
from PyQt6.QtGui import QTextBlockFormat, QTextCursor
from PyQt6.QtWidgets import QDialog, QListWidget, QSplitter, QTextBrowser, QVBoxLayout, QWidget

from lodestar.core.render import embree

from . import theme
from .commands import Commands

DOCS = Path(__file__).resolve().parents[3] / "docs"
FONTS = Path(__file__).resolve().parents[1] / "fonts"
VERSION = "0.1"
KEYS, ABOUT = "Shortcuts", "About"
# what it stands on, by the names of their packages, with their licences
PARTS = {
    "numpy": "BSD",
    "scipy": "BSD",
    "numba": "BSD",
    "opencv-python-headless": "Apache 2.0",
    "av": "BSD, with FFmpeg (LGPL)",
    "msgspec": "BSD",
    "PyQt6": "GPL 3",
    "embreex": "MIT, with Embree (Apache 2.0)",
    "uharfbuzz": "Apache 2.0",
    "fonttools": "MIT",
    "python-bidi": "LGPL",
    "manifold3d": "Apache 2.0",
    "OpenEXR": "BSD",
    "pillow": "HPND",
    "svgelements": "MIT",
}


def pages() -> dict[str, Path]:
    """The pages, by their titles, steps first."""
    steps = ("plate", "track", "solve", "ground", "place", "light", "foreground", "finish", "output")
    found = {name.capitalize(): DOCS / "steps" / f"{name}.md" for name in steps}
    return {**found, **{p.read_text().splitlines()[0].lstrip("# "): p for p in sorted(DOCS.glob("*.md"))}}


def shortcuts(commands: Commands) -> str:
    """Every command that has keys, by menu, as Markdown."""
    lines = ["# Shortcuts"]
    for menu in dict.fromkeys(command.menu for command in commands.all.values()):
        rows = [f"| {c.keys} | {c.label} |" for c in commands.all.values() if c.menu == menu and c.keys]
        if rows:
            lines += [f"\n## {menu}", "", "| keys | |", "|---|---|", *rows]
    lines += ["\n## In the picture and the time", "", "| hand | |", "|---|---|"]
    lines += [
        "| wheel, middle drag | zoom at the pointer, pan |",
        "| Shift and click | one more object, or a point for the surface |",
        "| Alt in a drag | shifts the whole motion |",
        "| wheel on the ruler | zoom of time; Shift and wheel along it |",
        "| Shift drag on the ruler | in and out |",
        "| Ctrl drag on the ruler | the part that plays over and over |",
    ]
    return "\n".join(lines)


def about() -> str:
    """Versions and licences, as Markdown."""

    def version(name: str) -> str:
        try:
            return importlib.metadata.version(name)
        except importlib.metadata.PackageNotFoundError:
            return "not here"

    rows = "\n".join(f"| {name} | {version(name)} | {licence} |" for name, licence in PARTS.items())
    faces = ", ".join(sorted({p.name.removesuffix("-LICENSE.txt") for p in FONTS.glob("*-LICENSE.txt")}))
    return f"""# Bright Lodestar {VERSION}

Free software under the GNU General Public License, version 3 or later: use it, look into it, change it and pass it on under the same terms. It comes
without any warranty. The text of the licence is in the file LICENSE beside the program.

Python {platform.python_version()} · Qt {QT_VERSION_STR} · {embree.description()} · {platform.system()} {platform.machine()}

| made with | version | licence |
|---|---|---|
{rows}

Faces under the SIL Open Font License: {faces}. Icons: Lucide, under the ISC licence.
"""


class Help(QDialog):
    """Pages at the left, the one that is read at the right. It stays open beside the work."""

    def __init__(self, commands: Commands, page: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.commands = commands
        self.setObjectName("help")
        self.setWindowTitle("Help")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(860, 600)
        box = QVBoxLayout(self)
        split = QSplitter()
        self.list = QListWidget()
        self.list.setObjectName("help-pages")
        self.list.setAccessibleName("Pages")
        self.text = QTextBrowser()
        self.text.setObjectName("help-text")
        self.text.setOpenLinks(False)
        self.text.anchorClicked.connect(self._follow)
        self.pages = pages()
        self.list.addItems([*self.pages, KEYS, ABOUT])
        self.list.currentTextChanged.connect(self._show)
        split.addWidget(self.list)
        split.addWidget(self.text)
        split.setSizes([250, 610])
        box.addWidget(split)
        self.show_page(page)

    def show_page(self, page: str) -> None:
        found = self.list.findItems(page, Qt.MatchFlag.MatchExactly)
        self.list.setCurrentItem(found[0] if found else self.list.item(0))

    def _show(self, page: str) -> None:
        if page == KEYS:
            self.text.setMarkdown(shortcuts(self.commands))
        elif page == ABOUT:
            self.text.setMarkdown(about())
        else:
            path = self.pages[page]
            self.text.setSearchPaths([str(path.parent)])
            self.text.document().setBaseUrl(QUrl.fromLocalFile(str(path)))
            self.text.setMarkdown(path.read_text())

        document = self.text.document()
        document.setDocumentMargin(20)
        document.setIndentWidth(16)
        document.setDefaultFont(theme.font(14))
        # room to read by: more between lines, and over each paragraph
        block = document.begin()
        while block.isValid():
            cursor, shape = QTextCursor(block), block.blockFormat()
            shape.setLineHeight(135.0, int(QTextBlockFormat.LineHeightTypes.ProportionalHeight.value))
            if not block.blockFormat().headingLevel() and not QTextCursor(block).currentTable():
                shape.setTopMargin(6)
            cursor.setBlockFormat(shape)
            block = block.next()

    def _follow(self, url: QUrl) -> None:
        name = Path(url.path()).name
        page = next((title for title, path in self.pages.items() if path.name == name and path.parent == DOCS), None)
        if page is not None:
            self.show_page(page)
