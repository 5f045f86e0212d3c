"""Everything the program can do, as commands with a name: the menus, the shortcuts and the finder are made from them."""

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QMainWindow, QMenu, QVBoxLayout

from .needs import Needs


class Command(NamedTuple):
    id: str
    menu: str
    label: str
    act: Callable[[], object]
    keys: str = ""
    enabled: Needs = Needs()
    tip: str = ""
    divided: bool = False  # a line stands before it in its menu


class Commands:
    """A list of commands, and the actions made from them in the window's menu bar."""

    def __init__(self, window: QMainWindow) -> None:
        self.window = window
        self.all: dict[str, Command] = {}
        self.actions: dict[str, QAction] = {}
        self.menus: dict[str, QMenu] = {}

    def add(self, *commands: Command) -> None:
        for command in commands:
            self.all[command.id] = command

    def run(self, id_: str) -> None:
        command = self.all[id_]
        if command.enabled():
            command.act()

    def fill_menus(self, order: list[str]) -> None:
        bar = self.window.menuBar()
        self.menus = {name: bar.addMenu(name) for name in order}
        for command in self.all.values():
            action = QAction(command.label, self.window)
            action.setObjectName(f"do-{command.id}")
            if command.keys:
                action.setShortcut(QKeySequence(command.keys))
                # plain letters belong to text fields first
                action.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
            action.setStatusTip(command.tip)
            action.triggered.connect(lambda _, c=command: c.act())
            self.actions[command.id] = action
            menu = self.menus[command.menu]
            if command.divided:
                menu.addSeparator()
            # commands of one kind, as 'Easing: smooth', share a menu of their own
            kind, colon, rest = command.label.partition(": ")
            if colon and sum(c.menu == command.menu and c.label.startswith(f"{kind}: ") for c in self.all.values()) > 2:
                inner = next((a.menu() for a in menu.actions() if a.menu() is not None and a.text() == kind), None) or menu.addMenu(kind)
                action.setText(rest[:1].upper() + rest[1:])
                inner.addAction(action)
            else:
                menu.addAction(action)
        for menu in self.menus.values():
            menu.aboutToShow.connect(self.refresh)

    def context_menu(self, *ids: str) -> QMenu:
        """A menu of some commands, as they can be done now; an empty name is a line."""
        self.refresh()
        menu = QMenu(self.window)
        menu.setObjectName("context-menu")
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for id_ in ids:
            if id_:
                menu.addAction(self.actions[id_])
            else:
                menu.addSeparator()
        return menu

    def refresh(self) -> None:
        for id_, command in self.all.items():
            self.actions[id_].setEnabled(command.enabled())


def _how_far(command: Command, text: str, words: list[str]) -> int:
    """How far a command is from what was typed: its label begins so, words of it do, the label has them, the menu or the tip has."""
    label = command.label.lower()
    begins = lambda word: any(own.startswith(word) for own in label.split())
    return [label.startswith(text), all(map(begins, words)), all(w in label for w in words), True].index(True)


class Finder(QDialog):
    """Type a few letters of any command; Enter runs it. What is named so comes first; what cannot be done now is listed after the rest, in grey, with what it needs."""

    def __init__(self, commands: Commands) -> None:
        super().__init__(commands.window)
        self.commands = commands
        self.setObjectName("finder")
        self.setWindowTitle("Find a command")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setMinimumWidth(440)
        box = QVBoxLayout(self)
        box.setContentsMargins(8, 8, 8, 8)
        self.text = QLineEdit(placeholderText="What do you want to do?")
        self.text.setObjectName("finder-text")
        self.list = QListWidget()
        self.list.setObjectName("finder-list")
        self.list.setUniformItemSizes(True)  # else each of two hundred is laid out by itself
        box.addWidget(self.text)
        box.addWidget(self.list)
        self.text.textChanged.connect(self._fill)
        self.text.returnPressed.connect(self._take)
        self.list.itemActivated.connect(lambda _: self._take())
        self.text.installEventFilter(self)
        self._fill("")

    def _fill(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        fits = lambda command: all(w in f"{command.menu} {command.label} {command.tip}".lower() for w in words)
        found = [(command, command.enabled()) for command in self.commands.all.values() if fits(command)]
        for command, now in sorted(found, key=lambda one: (not one[1], _how_far(one[0], text.lower().strip(), words))):
            item = QListWidgetItem(f"{command.menu} › {command.label.replace('…', '')}" + (f"    {command.keys}" if command.keys else "") * now)
            item.setData(Qt.ItemDataRole.UserRole, command.id)
            item.setToolTip(command.tip)
            if not now:
                item.setFlags(Qt.ItemFlag.NoItemFlags)
                item.setText(f"{item.text()}    needs {command.enabled.why()}")
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _take(self) -> None:
        item = self.list.currentItem()
        if item is not None and not item.flags() & Qt.ItemFlag.ItemIsEnabled:
            return
        self.accept()
        if item is not None:
            self.commands.run(item.data(Qt.ItemDataRole.UserRole))

    def eventFilter(self, watched, event) -> bool:
        if event.type() == event.Type.KeyPress and event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            last = sum(bool(self.list.item(i).flags() & Qt.ItemFlag.ItemIsEnabled) for i in range(self.list.count())) - 1
            self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), max(last, 0)))
            return True
        return super().eventFilter(watched, event)
