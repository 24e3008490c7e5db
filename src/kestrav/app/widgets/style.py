"""The look: fonts, colours and the style sheet."""

from __future__ import annotations

from importlib import resources

from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication

from kestrav.app.widgets.window_colours import (
    CARD,
    CHOSEN,
    DISABLED,
    FAULT,
    FIELD,
    FIELD_LINE,
    FIELD_OFF,
    HANDLE,
    HEADING,
    HOVER,
    INK,
    MUTED,
    OCHRE,
    ON_PETROL,
    ON_STRAW,
    PAPER,
    PETROL,
    PETROL_DARK,
    RULE,
    SCROLL,
    STRAW,
    WORKED,
    is_dark,
)

FAMILY = "Open Sans"
SEVERITY_WORD = {"breach": "Breach", "warning": "Warning", "note": "Note"}

SHEET = f"""
* {{ font-family: "{FAMILY}"; font-size: 12px; color: {INK}; }}
QMainWindow, QWidget#body {{ background: {PAPER}; }}
QLineEdit#finder {{ background: #2a4a51; color: #eef3f3; border: 1px solid #5f787c; border-radius: 11px;
  padding: 1px 10px; }}
QLineEdit#finder:focus {{ background: {CARD}; color: {INK}; }}
QListWidget#found {{ background: {CARD}; border: 1px solid {PETROL_DARK}; outline: none; }}
QListWidget#pages {{ background: {PAPER}; border: none; border-right: 1px solid {RULE}; outline: none; padding-top: 8px; }}
QListWidget#pages::item {{ padding: 6px 12px; }}
QListWidget#pages::item:selected {{ background: {CHOSEN}; color: {INK}; border-left: 3px solid {PETROL}; }}
QTextBrowser {{ background: {CARD}; border: none; }}
QWidget#welcome {{ background: {CARD}; border: 1px solid {RULE}; }}
QWidget#welcome QLabel#muted {{ color: {MUTED}; }}
QPushButton#plan {{ background: {PAPER}; border: 1px solid {RULE}; border-radius: 4px; text-align: left; }}
QPushButton#plan:hover, QPushButton#plan:focus {{ border-color: {PETROL}; background: {CHOSEN}; }}
QLabel#planname {{ font-weight: 600; color: {PETROL}; }}
QToolButton#recent {{ background: {PAPER}; border: 1px solid {RULE}; border-radius: 4px; padding: 4px; }}
QToolButton#recent:hover, QToolButton#recent:focus {{ border-color: {PETROL}; background: {CHOSEN}; }}
QWidget#header {{ background: {PETROL_DARK}; }}
QWidget#header QLabel {{ color: #dfe8e8; }}
QWidget#header QLabel#brand {{ color: white; font-size: 16px; font-weight: 600; }}
QWidget#header QToolButton {{ color: #eef3f3; background: transparent; border: 1px solid #5f787c;
  border-radius: 11px; padding: 2px 13px; }}
QWidget#header QToolButton:hover {{ background: #2a4a51; }}
QWidget#header QToolButton:focus {{ border: 1px solid {STRAW}; }}
QWidget#header QToolButton:disabled {{ color: #7f9498; border-color: #3b555a; }}
QWidget#header QToolButton#main {{ color: {ON_STRAW}; background: {STRAW}; border-color: {STRAW}; font-weight: 600; }}
QWidget#header QToolButton#main:hover {{ background: #f0d482; }}
QWidget#header QToolButton#main:focus {{ border: 1px solid white; }}
QWidget#header QToolButton::menu-indicator {{ image: none; }}
QLabel#muted, QLabel[muted="true"] {{ color: {MUTED}; }}
QLabel#title {{ font-weight: 600; font-size: 13px; }}
QLabel#worked {{ background: {WORKED}; border-left: 3px solid {STRAW}; padding: 6px 9px; }}
QWidget#header QLabel#notice {{ color: #f0d48a; font-weight: 600; }}
QLabel#fault {{ background: {FAULT}; border-left: 3px solid {OCHRE}; padding: 6px 9px; }}
QWidget#card {{ background: {CARD}; border-right: 1px solid {RULE}; }}
QWidget#sectionhead {{ border-top: 1px solid {RULE}; padding-top: 1px; }}
QToolButton#section {{ border: none; background: transparent; font-weight: 600; padding: 3px 0; }}
QToolButton#section:hover {{ color: {PETROL}; }}
QToolButton#section:focus {{ border-bottom: 1px solid {PETROL}; }}
QToolButton#more {{ border: none; background: transparent; font-size: 15px; font-weight: 600; padding: 4px 6px; color: {MUTED}; }}
QToolButton#more:hover, QToolButton#more:focus {{ color: {PETROL}; background: {HOVER}; border-radius: 3px; }}
QWidget#cardbody {{ background: {CARD}; }}
QScrollArea {{ border: none; background: transparent; }}
QTreeView {{ background: {PAPER}; border: none; outline: none; }}
QLineEdit, QComboBox, QPlainTextEdit {{ background: {FIELD}; border: 1px solid {FIELD_LINE}; border-radius: 3px;
  padding: 2px 6px; min-height: 19px; selection-background-color: {PETROL}; selection-color: {ON_PETROL}; }}
QLineEdit#search {{ border: none; border-bottom: 1px solid {RULE}; border-radius: 0; background: {PAPER}; padding: 3px 10px; }}
QLineEdit#search:focus {{ border-bottom: 1px solid {PETROL}; background: {FIELD}; }}
QToolButton#filter {{ border: none; border-bottom: 1px solid {RULE}; background: {PAPER}; color: {MUTED}; padding: 3px 10px; }}
QToolButton#filter[on="true"] {{ color: {PETROL}; font-weight: 600; }}
QToolButton#filter:focus {{ border-bottom: 1px solid {PETROL}; }}
QToolButton#filter::menu-indicator {{ image: none; }}
QLineEdit#rename {{ border: 1px solid {PETROL}; border-radius: 0; padding: 0 3px; min-height: 0; }}
QLineEdit[bare="true"] {{ padding: 2px 3px; }}
QLineEdit:focus, QComboBox:focus {{ border: 1px solid {PETROL}; }}
QLineEdit:disabled {{ background: {FIELD_OFF}; color: {MUTED}; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url("CHEVRON"); width: 11px; height: 11px; }}
QComboBox QAbstractItemView {{ background: {FIELD}; selection-background-color: {CHOSEN}; selection-color: {INK}; }}
QCheckBox {{ spacing: 6px; }}
QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
QPushButton, QToolButton#tool {{ background: {CARD}; border: 1px solid {FIELD_LINE}; border-radius: 4px; padding: 3px 10px; }}
QToolButton#tool {{ border-radius: 0; padding: 4px 12px; }}
QPushButton#tab {{ border-radius: 0; padding: 3px 4px; }}
QPushButton#tab:checked {{ background: {PETROL}; color: {ON_PETROL}; border-color: {PETROL}; }}
QListWidget#shots {{ background: {CARD}; border: 1px solid {RULE}; outline: none; }}
QListWidget#shots::item:selected {{ background: {CHOSEN}; border-left: 3px solid {PETROL}; }}
QWidget#strip {{ background: {CARD}; border: 1px solid {FIELD_LINE}; }}
QPushButton#main {{ background: {STRAW}; border-color: {STRAW}; color: {ON_STRAW}; font-weight: 600; }}
QPushButton#main:hover {{ background: #f0d482; }}
QWidget#banner QLabel, QWidget#preview QLabel {{ color: {ON_STRAW}; }}
QPushButton:hover, QToolButton#tool:hover {{ background: {HOVER}; }}
QPushButton:focus, QToolButton#tool:focus {{ border: 1px solid {PETROL}; }}
QPushButton:checked, QToolButton#tool:checked {{ background: {PETROL}; color: {ON_PETROL}; border-color: {PETROL}; }}
QPushButton#link {{ border: none; background: transparent; color: {PETROL}; font-weight: 600; padding: 1px 0;
  text-align: left; }}
QPushButton#link:checked {{ color: {INK}; background: transparent; border-bottom: 2px solid {STRAW}; border-radius: 0; }}
QPushButton#link:hover {{ text-decoration: underline; }}
QPushButton#link:focus {{ border-bottom: 1px solid {PETROL}; border-radius: 0; }}
QPushButton#play {{ border-radius: 11px; border: 1px solid {PETROL}; color: {PETROL}; padding: 1px 12px; min-height: 19px; }}
QToolButton#plainmenu {{ border: none; background: transparent; color: {PETROL}; font-weight: 600; padding: 1px 14px 1px 2px; }}
QToolButton#plainmenu:focus {{ border-bottom: 1px solid {PETROL}; }}
QPushButton#plain {{ border: none; background: transparent; padding: 2px 5px; }}
QPushButton#plain:hover {{ background: {HOVER}; }}
QWidget#findings {{ background: {PAPER}; border-top: 1px solid {RULE}; }}
QWidget#panelhead {{ background: {HEADING}; border-bottom: 1px solid {RULE}; }}
QFrame#finding {{ background: {CARD}; border: none; border-bottom: 1px solid {RULE}; }}
QFrame#finding[chosen="true"] {{ background: {HOVER}; }}
QWidget#timelineplace {{ background: {CARD}; }}
QWidget#timeline {{ background: {CARD}; border-top: 1px solid {RULE}; }}
QLabel#emptychart {{ background: {PAPER}; border: 1px solid {RULE}; color: {MUTED}; padding: 8px 14px; }}
QWidget#transport {{ background: {CARD}; border-bottom: 1px solid {RULE}; }}
QWidget#lenshead {{ background: {PETROL_DARK}; }}
QWidget#lenshead QLabel {{ color: white; }}
QWidget#lenshead QPushButton {{ color: white; background: transparent; border: none; padding: 1px 5px; }}
QWidget#lenshead QPushButton:hover {{ background: #2a4a51; }}
QWidget#toolbar {{ background: transparent; }}
QLabel#gap {{ background: #c63d24; color: white; font-weight: 600; }}
QLabel#gapgood {{ background: {PETROL_DARK}; color: white; }}
QWidget#banner {{ background: {STRAW}; }}
QLabel#panename {{ background: {PETROL_DARK}; color: white; padding: 2px 8px; }}
QWidget#tour {{ background: {CARD}; border: 2px solid {STRAW}; }}
QWidget#touroutline {{ background: {STRAW}; }}
QLabel#hint {{ background: {PETROL_DARK}; color: white; padding: 4px 9px; }}
QWidget#preview {{ background: {STRAW}; }}
QWidget#jobbar, QWidget#film {{ background: {CARD}; border-top: 1px solid {RULE}; }}
QProgressBar {{ border: 1px solid {FIELD_LINE}; border-radius: 4px; background: {FIELD}; height: 10px; text-align: center; }}
QProgressBar::chunk {{ background: {PETROL}; border-radius: 3px; }}
QSplitter::handle {{ background: {RULE}; }}
QSplitter::handle:hover {{ background: {HANDLE}; }}
QToolTip {{ background: {PETROL_DARK}; color: white; border: none; padding: 4px 6px; }}
QMenu {{ background: {CARD}; border: 1px solid {RULE}; padding: 4px 0; }}
QMenu::item {{ padding: 4px 22px; }}
QMenu::item:selected {{ background: {CHOSEN}; }}
QMenu::item:disabled {{ color: {DISABLED}; }}
QMenu::separator {{ height: 1px; background: {RULE}; margin: 4px 8px; }}
QScrollBar:vertical {{ background: transparent; width: 9px; margin: 0; }}
QScrollBar::handle:vertical {{ background: {SCROLL}; border-radius: 4px; min-height: 24px; }}
QScrollBar:horizontal {{ background: transparent; height: 9px; margin: 0; }}
QScrollBar::handle:horizontal {{ background: {SCROLL}; border-radius: 4px; min-width: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QDialog, QMessageBox {{ background: {CARD}; border: 1px solid {RULE}; }}
"""


def apply_style(application: QApplication) -> None:
    """Load the fonts and give the application its look."""
    folder = resources.files("kestrav") / "assets" / "fonts"
    for name in ("OpenSans-Regular.ttf", "OpenSans-Semibold.ttf"):
        QFontDatabase.addApplicationFontFromData((folder / name).read_bytes())
    font = QFont(FAMILY)
    font.setPixelSize(12)
    application.setFont(font)
    application.setStyle("Fusion")
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, PAPER),
        (QPalette.ColorRole.Base, FIELD),
        (QPalette.ColorRole.Text, INK),
        (QPalette.ColorRole.WindowText, INK),
        (QPalette.ColorRole.ButtonText, INK),
        (QPalette.ColorRole.Button, CARD),
        (QPalette.ColorRole.Highlight, PETROL),
        (QPalette.ColorRole.HighlightedText, ON_PETROL),
        (QPalette.ColorRole.PlaceholderText, MUTED),
    ):
        palette.setColor(role, QColor(colour))
    application.setPalette(palette)
    with resources.as_file(
        resources.files("kestrav") / "assets" / ("chevron-light.png" if is_dark() else "chevron.png")
    ) as chevron:
        application.setStyleSheet(SHEET.replace("CHEVRON", chevron.as_posix()))
