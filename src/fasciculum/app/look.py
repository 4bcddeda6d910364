"""Colours and the style sheet. Grounds are neutral so that textures are judged rightly; one accent, straw."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from pathlib import Path

from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import QApplication


@dataclass
class Theme:
    """Named colours; text on ground has a contrast of at least 4.5 to 1.

    Parts of the window hold one theme that is changed in place, so that another look is seen at once.
    """

    name: str
    ground: str
    panel: str
    raised: str
    field: str
    line: str
    text: str
    quiet: str
    accent: str
    on_accent: str
    chosen: str
    good: str
    broken: str
    view: str
    island: str


DARK = Theme(
    name="dark",
    ground="#212322",
    panel="#282a29",
    raised="#363938",
    field="#1f2120",
    line="#3d403f",
    text="#e6e4de",
    quiet="#a9aaa5",
    accent="#d8b45a",
    on_accent="#23201a",
    chosen="#4a412a",
    good="#93b59f",
    broken="#e08a72",
    view="#1e1f1e",
    island="#5d7068",
)
LIGHT = Theme(
    name="light",
    ground="#e9e8e4",
    panel="#f4f3f0",
    raised="#dddcd6",
    field="#ffffff",
    line="#c4c3bc",
    text="#232422",
    quiet="#5c5d59",
    accent="#d8b45a",
    on_accent="#23201a",
    chosen="#efe0b8",
    good="#3f6b51",
    broken="#a03d26",
    view="#d2d1cc",
    island="#9db3a8",
)
THEMES = {"dark": DARK, "light": LIGHT}
ICONS = (Path(__file__).parent / "icons").as_posix()


def style_sheet(t: Theme) -> str:
    """Return the application's style sheet."""
    tone = t.name
    return f"""
* {{ font-size: 13px; }}
QMainWindow, QWidget#frame, QDialog {{ background: {t.ground}; color: {t.text}; }}
QDialog {{ border: 1px solid {t.line}; }}
QWidget {{ color: {t.text}; }}
QWidget#panel, QScrollArea#panel, QScrollArea#panel > QWidget > QWidget {{ background: {t.panel}; }}
QLabel {{ background: transparent; }}
QLabel[quiet="true"] {{ color: {t.quiet}; font-size: 11px; }}
QLabel[state="good"] {{ color: {t.good}; }}
QLabel[state="broken"] {{ color: {t.broken}; }}
QLabel[heading="true"] {{ color: {t.quiet}; font-size: 11px; font-weight: 600; }}
QToolTip {{ background: {t.raised}; color: {t.text}; border: 1px solid {t.line}; padding: 4px; }}
QPushButton, QToolButton, QComboBox, QSpinBox, QDoubleSpinBox, QLineEdit {{
  background: {t.field}; color: {t.text}; border: 1px solid {t.line}; border-radius: 4px;
  padding: 2px 8px; min-height: 22px; }}
QPushButton, QToolButton {{ background: {t.raised}; border-color: transparent; }}
QPushButton:hover, QToolButton:hover, QComboBox:hover {{ border-color: {t.quiet}; }}
QPushButton:focus, QToolButton:focus, QComboBox:focus, QSpinBox:focus, QDoubleSpinBox:focus, QLineEdit:focus,
QTreeWidget:focus, QListWidget:focus {{ border: 1px solid {t.accent}; }}
QPushButton:disabled, QToolButton:disabled, QComboBox:disabled {{ color: {t.quiet}; background: {t.panel}; }}
QPushButton[main="true"] {{ background: {t.accent}; color: {t.on_accent}; font-weight: 600; min-height: 30px; }}
QPushButton[main="true"]:disabled {{ background: {t.raised}; color: {t.quiet}; }}
QPushButton[flat="true"] {{ background: transparent; text-align: left; padding: 2px 4px; }}
QPushButton[flat="true"]:hover {{ background: {t.raised}; }}
QToolButton[ledger="true"] {{ background: transparent; border-radius: 0; border: 1px solid transparent;
  border-left: 1px solid {t.line}; }}
QToolButton[ledger="true"]:hover {{ background: {t.raised}; }}
QToolButton[ledger="true"]:focus {{ border: 1px solid {t.accent}; }}
QPushButton:checked, QToolButton:checked {{ background: {t.chosen}; border-color: {t.accent}; }}
QComboBox::drop-down {{ border: 0; width: 18px; }}
QComboBox[narrow="true"] {{ padding: 2px 0 2px 5px; }}
QComboBox[narrow="true"]::drop-down {{ width: 14px; }}
QComboBox::down-arrow {{ image: url({ICONS}/down-{tone}.svg); width: 10px; height: 10px; }}
QSpinBox::up-button, QDoubleSpinBox::up-button {{ border: 0; width: 16px; background: transparent; }}
QSpinBox::down-button, QDoubleSpinBox::down-button {{ border: 0; width: 16px; background: transparent; }}
QSpinBox::up-arrow, QDoubleSpinBox::up-arrow {{ image: url({ICONS}/up-{tone}.svg); width: 9px; height: 9px; }}
QSpinBox::down-arrow, QDoubleSpinBox::down-arrow {{
  image: url({ICONS}/down-{tone}.svg); width: 9px; height: 9px; }}
QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t.quiet}; border-radius: 3px;
  background: {t.field}; }}
QCheckBox::indicator:checked {{ background: {t.accent}; border-color: {t.accent}; image: url({ICONS}/check.svg); }}
QCheckBox::indicator:disabled {{ border-color: {t.line}; }}
QCheckBox::indicator:checked:disabled {{ background: {t.line}; }}
QCheckBox:focus {{ color: {t.accent}; }}
QTreeView::branch:has-children:closed {{ image: url({ICONS}/closed-{tone}.svg); }}
QTreeView::branch:has-children:open {{ image: url({ICONS}/down-{tone}.svg); }}
QComboBox QAbstractItemView {{ background: {t.field}; color: {t.text}; selection-background-color: {t.chosen};
  selection-color: {t.text}; border: 1px solid {t.line}; }}
QSpinBox, QDoubleSpinBox {{ padding: 1px 0 1px 6px; }}
QTreeWidget, QListWidget, QPlainTextEdit {{ background: {t.panel}; color: {t.text}; border: 1px solid transparent;
  outline: 0; }}
QTreeWidget::item, QListWidget::item {{ min-height: 26px; }}
QListWidget::item:selected {{ background: {t.chosen}; color: {t.text}; }}
QListWidget::item:hover {{ background: {t.raised}; }}
QSpinBox QLineEdit, QDoubleSpinBox QLineEdit {{ background: transparent; border: 0; padding: 0 0 0 3px;
  min-height: 0; }}
QCheckBox {{ background: transparent; min-height: 24px; spacing: 7px; }}
QMenu {{ background: {t.panel}; color: {t.text}; border: 1px solid {t.line}; }}
QMenu::item {{ padding: 5px 24px 5px 12px; }}
QMenu::item:selected {{ background: {t.chosen}; }}
QMenu::item:disabled {{ color: {t.quiet}; }}
QMenu::separator {{ height: 1px; background: {t.line}; margin: 4px 0; }}
QSplitter::handle {{ background: {t.line}; }}
QScrollArea {{ border: 0; }}
QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ background: none; height: 0; width: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: none; }}
QProgressBar {{ background: {t.field}; border: 0; border-radius: 3px; max-height: 6px; }}
QProgressBar::chunk {{ background: {t.accent}; border-radius: 3px; }}
QSlider::groove:horizontal {{ height: 4px; background: {t.line}; border-radius: 2px; }}
QSlider::handle:horizontal {{ width: 14px; height: 14px; margin: -5px 0; background: {t.accent}; border-radius: 7px; }}
QFrame#line {{ background: {t.line}; }}
QFrame#door {{ background: {t.panel}; border: 1px solid {t.line}; border-radius: 8px; }}
QLabel#picture {{ background: {t.view}; border: 1px solid {t.line}; border-radius: 3px; }}
QFrame#notice {{ background: {t.chosen}; border: 0; border-top: 1px solid {t.accent}; }}
QTableWidget {{ background: {t.panel}; color: {t.text}; border: 1px solid {t.line}; outline: 0; }}
QTableWidget:focus {{ border: 1px solid {t.accent}; }}
QTableWidget::item {{ padding: 0 6px; }}
QTableWidget::item:selected {{ background: {t.chosen}; color: {t.text}; }}
QHeaderView {{ background: {t.ground}; }}
QHeaderView::section {{ background: {t.ground}; color: {t.quiet}; border: 0; border-bottom: 1px solid {t.line};
  padding: 4px 6px; font-size: 11px; font-weight: 600; }}
"""


def theme_in_use(name: str) -> Theme:
    """Return a theme of that name that may be changed to another."""
    return replace(THEMES[name])


def change_theme(theme: Theme, name: str) -> None:
    """Give a theme that parts hold the colours of another."""
    for one in fields(theme):
        setattr(theme, one.name, getattr(THEMES[name], one.name))


def apply_theme(application: QApplication, name: str) -> Theme:
    """Give the application a theme's colours and return it."""
    theme = THEMES[name]
    palette = QPalette()
    for role, color in (
        (QPalette.ColorRole.Window, theme.ground),
        (QPalette.ColorRole.Base, theme.panel),
        (QPalette.ColorRole.Text, theme.text),
        (QPalette.ColorRole.WindowText, theme.text),
        (QPalette.ColorRole.Button, theme.raised),
        (QPalette.ColorRole.ButtonText, theme.text),
        (QPalette.ColorRole.Highlight, theme.chosen),
        (QPalette.ColorRole.HighlightedText, theme.text),
        (QPalette.ColorRole.PlaceholderText, theme.quiet),
    ):
        palette.setColor(role, QColor(color))
    application.setStyle("Fusion")
    application.setPalette(palette)
    application.setStyleSheet(style_sheet(theme))
    return theme
