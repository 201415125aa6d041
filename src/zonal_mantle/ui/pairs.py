"""A layout of controls beside one another that wraps where there is no room for all of them."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem

from .guard import guarded


@guarded
class Pairs(QLayout):
    """Fills row after row. With `even` all columns are of one width, so that numbers line up below one another; with
    `grow` what is in a row shares its whole width."""

    def __init__(self, even: bool, spacing: int = 4, grow: bool = True) -> None:
        super().__init__()
        self._even, self._grow = even, grow
        self._items: list[QLayoutItem] = []
        self._heights: dict[int, int] = {}
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    # --- what a layout has to have ---
    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation.Horizontal

    def hasHeightForWidth(self) -> bool:
        return True

    def invalidate(self) -> None:
        self._heights.clear()
        super().invalidate()

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            places = self._places(width)
            self._heights[width] = max((box.bottom() + 1 for _, box in places), default=0)
        return self._heights[width]

    def minimumSize(self) -> QSize:
        shown = [item.minimumSize() for item in self._items if not item.isEmpty()]
        if not shown:
            return QSize(0, 0)
        return QSize(max(size.width() for size in shown), max(size.height() for size in shown))

    def sizeHint(self) -> QSize:
        shown = [item.sizeHint() for item in self._items if not item.isEmpty()]
        if not shown:
            return QSize(0, 0)
        gaps = self.spacing() * (len(shown) - 1)
        return QSize(sum(size.width() for size in shown) + gaps, max(size.height() for size in shown))

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        for item, box in self._places(rect.width()):
            item.setGeometry(box.translated(rect.topLeft()))

    # --- where everything goes ---
    def _rows(self, shown: list[QLayoutItem], width: int) -> list[list[QLayoutItem]]:
        gap = self.spacing()
        if self._even:
            widest = max(item.sizeHint().width() for item in shown)
            count = min(max((width + gap) // (widest + gap), 1), len(shown))
            return [shown[k : k + count] for k in range(0, len(shown), count)]
        rows: list[list[QLayoutItem]] = [[]]
        taken = 0
        for item in shown:
            need = item.sizeHint().width()
            if rows[-1] and taken + gap + need > width:
                rows.append([])
                taken = 0
            taken += need + (gap if rows[-1] else 0)
            rows[-1].append(item)
        return rows

    def _places(self, width: int) -> list[tuple[QLayoutItem, QRect]]:
        shown = [item for item in self._items if not item.isEmpty()]
        if not shown:
            return []
        gap, top, out = self.spacing(), 0, []
        for cells in self._rows(shown, width):
            room = width - gap * (len(cells) - 1)
            hints = [0 if self._even else item.sizeHint().width() for item in cells]
            spare = room - sum(hints) if self._grow else 0
            high, left = max(item.sizeHint().height() for item in cells), 0
            for k, (item, hint) in enumerate(zip(cells, hints)):
                wide = hint + spare * (k + 1) // len(cells) - spare * k // len(cells)
                out.append((item, QRect(QPoint(left, top), QSize(max(wide, 1), high))))
                left += wide + gap
            top += high + gap - 1
        return out
