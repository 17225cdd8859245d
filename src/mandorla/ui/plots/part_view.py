"""A 3-D view of the part: rendered off screen into an image, turned by dragging, scaled by the wheel, reset by a double click.

Off-screen rendering works the same on every platform and with no display; embedded GL widgets do not. VTK is imported when
the first picture is wanted, because it takes half a second to load.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from mandorla.ui.theme.palette import Theme, font

VIEW_ANGLE: Final = 30.0  # degrees, from where the distance is chosen
FILLED: Final = 0.88  # of the picture, by what is shown


class PartView(QWidget):
    """Shows a mesh standing on its plate, optionally coloured by a value at each vertex; a click tells the place it hit."""

    clicked = Signal(float, float, float)  # m, on the bed as shown

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setMinimumSize(240, 180)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self._image: QImage | None = None
        self._scene: _Scene | None = None
        self._theme: Theme | None = None
        self._content: (
            tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64] | None, tuple[float, float]] | None
        ) = None
        self._marks: tuple[tuple[float, float, float], ...] = ()
        self._grabbed: QPointF | None = None
        self._pressed: QPointF | None = None
        self._caption = ""
        self._timer = QTimer(self, singleShot=True, interval=0)
        self._timer.timeout.connect(self._render)

    def sizeHint(self) -> QSize:
        """As small as it may be: the picture follows the room, never the room the picture."""
        return self.minimumSize()

    def show_mesh(
        self, theme: Theme, vertices: NDArray[np.float64], faces: NDArray[np.int64], bed: tuple[float, float],
        place: tuple[float, float] = (0.0, 0.0), values: NDArray[np.float64] | None = None, caption: str = "",
    ) -> None:  # fmt: skip
        """Show vertices (n, 3) m and faces (m, 3), moved to ``place`` on a bed (m), coloured by ``values`` (n,) 0-1."""
        self._theme, self._caption = theme, caption
        self._content = (vertices + np.array([*place, 0.0]), faces, values, bed)
        if self._scene is not None:
            self._scene.fill(theme, *self._content)
        if self.isVisible():
            self._timer.start()

    def show_marks(self, marks: Sequence[tuple[float, float, float]]) -> None:
        """Number places (m, on the bed) on the picture; they are seen through the part."""
        self._marks = tuple(marks)
        self.setAccessibleDescription(f"{len(marks)} places marked")
        self.update()

    @property
    def marks(self) -> tuple[tuple[float, float, float], ...]:
        """The numbered places."""
        return self._marks

    @property
    def tallest(self) -> float:
        """Height (m) of what is shown over the plate; nought without anything."""
        return float(self._content[0][:, 2].max()) if self._content is not None else 0.0

    @property
    def image(self) -> QImage | None:
        """The rendered picture; None before it is painted."""
        return self._image

    @property
    def triangles(self) -> int:
        """How many triangles are shown."""
        return len(self._content[1]) if self._content is not None else 0

    def clear(self) -> None:
        """Show nothing."""
        self._content, self._image = None, None
        self.update()

    def _render(self) -> None:
        if self._content is None or self._theme is None or self.width() < 20:
            return
        if self._scene is None:
            self._scene = _Scene()
            self._scene.fill(self._theme, *self._content)
        ratio = self.devicePixelRatioF()
        self._image = self._scene.picture(int(self.width() * ratio), int(self.height() * ratio))
        self._image.setDevicePixelRatio(ratio)
        self.update()

    def showEvent(self, event: object) -> None:
        """Render when the view becomes visible."""
        self._timer.start()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Render in the new size."""
        self._timer.start()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Show the newest picture."""
        painter = QPainter(self)
        if self._image is not None:
            painter.drawImage(0, 0, self._image)
            self._draw_marks(painter)
        if self._theme is not None and self._caption:
            painter.setPen(self._theme.color("soft"))
            painter.setFont(font(8.5))
            area = self.rect().adjusted(10, 6, -10, -6)
            painter.drawText(area, int(Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignLeft), self._caption)
        painter.end()

    def _draw_marks(self, painter: QPainter) -> None:
        if self._scene is None or self._theme is None or self._image is None:
            return
        t = self._theme
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(8.5, strong=True))
        ratio = self._image.devicePixelRatio()
        for number, mark in enumerate(self._marks, start=1):
            x, y = self._scene.project(mark)
            centre = QPointF(x / ratio, self.height() - y / ratio)
            painter.setPen(QPen(t.color("ink"), 1.2))
            painter.setBrush(t.color("raised"))
            painter.drawEllipse(centre, 9.0, 9.0)
            box = QRectF(centre.x() - 9, centre.y() - 9, 18, 18)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(number))

    def look_anew(self) -> None:
        """Frame what is shown now."""
        if self._scene is not None:
            self._scene.reset()
            self._timer.start()

    def turn(self, azimuth: float, elevation: float) -> None:
        """Turn the camera by degrees."""
        if self._scene is not None:
            self._scene.turn(azimuth, elevation)
            self._timer.start()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Grab the part."""
        self._grabbed = self._pressed = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Turn it."""
        if self._grabbed is not None:
            move = event.position() - self._grabbed
            self._grabbed = event.position()
            self.turn(-0.5 * move.x(), 0.5 * move.y())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go; where the mouse did not move, tell what it hit."""
        pressed, self._grabbed, self._pressed = self._pressed, None, None
        if pressed is None or self._scene is None or (event.position() - pressed).manhattanLength() > 3.0:
            return
        ratio = self.devicePixelRatioF()
        hit = self._scene.hit(event.position().x() * ratio, (self.height() - event.position().y()) * ratio)
        if hit is not None:
            self.clicked.emit(*hit)

    def place_of(self, place: tuple[float, float, float]) -> QPointF:
        """Where a place (m, on the bed) is drawn."""
        if self._scene is None:
            return QPointF()
        x, y = self._scene.project(place)
        ratio = self.devicePixelRatioF()
        return QPointF(x / ratio, self.height() - y / ratio)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Back to the first view."""
        if self._scene is not None:
            self._scene.reset()
            self._timer.start()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Nearer or farther."""
        if self._scene is not None:
            self._scene.zoom(1.12 if event.angleDelta().y() > 0 else 1 / 1.12)
            self._timer.start()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrow keys turn the part."""
        turns = {Qt.Key.Key_Left: (10, 0), Qt.Key.Key_Right: (-10, 0), Qt.Key.Key_Up: (0, 6), Qt.Key.Key_Down: (0, -6)}
        if event.key() in turns:
            self.turn(*turns[Qt.Key(event.key())])
            return
        super().keyPressEvent(event)


class _Scene:
    """The VTK side: one actor for the part, one for the plate, a light from the upper left."""

    def __init__(self) -> None:
        # imported here, see the module's docstring
        import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the renderer)
        from vtkmodules.util import numpy_support
        from vtkmodules.vtkCommonCore import vtkLogger, vtkPoints
        from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
        from vtkmodules.vtkFiltersCore import vtkPolyDataNormals
        from vtkmodules.vtkFiltersSources import vtkPlaneSource
        from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper, vtkRenderer, vtkRenderWindow

        vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_OFF)  # it announces every missing display
        self._support = numpy_support
        self._points, self._cells, self._poly = vtkPoints, vtkCellArray, vtkPolyData
        self._renderer = vtkRenderer()
        self._window = vtkRenderWindow()
        self._window.SetOffScreenRendering(1)
        self._window.SetMultiSamples(4)
        self._window.AddRenderer(self._renderer)
        self._normals = vtkPolyDataNormals()
        self._normals.SetFeatureAngle(32.0)
        self._normals.SplittingOn()
        self._mapper = vtkPolyDataMapper()
        self._mapper.SetInputConnection(self._normals.GetOutputPort())
        self._actor = vtkActor()
        self._actor.SetMapper(self._mapper)
        self._plane = vtkPlaneSource()
        plate = vtkPolyDataMapper()
        plate.SetInputConnection(self._plane.GetOutputPort())
        self._plate = vtkActor()
        self._plate.SetMapper(plate)
        self._renderer.AddActor(self._plate)
        self._renderer.AddActor(self._actor)
        self._framed = False
        self._fitted = False  # until it is turned or scaled by hand

    def fill(
        self, theme: Theme, vertices: NDArray[np.float64], faces: NDArray[np.int64],
        values: NDArray[np.float64] | None, bed: tuple[float, float],
    ) -> None:  # fmt: skip
        """Replace the content."""
        points = self._points()
        points.SetData(self._support.numpy_to_vtk(np.ascontiguousarray(1e3 * vertices), deep=True))
        cells = self._cells()
        offsets, corners = np.arange(0, 3 * len(faces) + 1, 3, dtype=np.int64), faces.ravel().astype(np.int64)
        cells.SetData(*(self._support.numpy_to_vtkIdTypeArray(a, deep=True) for a in (offsets, corners)))
        data = self._poly()
        data.SetPoints(points)
        data.SetPolys(cells)
        if values is not None:
            from mandorla.ui.theme.temperature_map import temperature_colors

            colors = temperature_colors()[np.clip(values * 255, 0, 255).astype(int)]
            array = self._support.numpy_to_vtk(np.ascontiguousarray(colors), deep=True)
            data.GetPointData().SetScalars(array)
            self._mapper.SetColorModeToDirectScalars()
        self._mapper.SetScalarVisibility(values is not None)
        self._normals.SetInputData(data)
        width, depth = 1e3 * bed[0], 1e3 * bed[1]
        self._plane.SetOrigin(-width / 2, -depth / 2, -0.4)
        self._plane.SetPoint1(width / 2, -depth / 2, -0.4)
        self._plane.SetPoint2(-width / 2, depth / 2, -0.4)
        part = theme.color("almond")
        self._actor.GetProperty().SetColor(part.redF(), part.greenF(), part.blueF())
        self._actor.GetProperty().SetAmbient(0.22)
        self._actor.GetProperty().SetDiffuse(0.82)
        sheet = theme.color("line")
        self._plate.GetProperty().SetColor(sheet.redF(), sheet.greenF(), sheet.blueF())
        self._plate.GetProperty().LightingOff()
        self._plate.GetProperty().SetOpacity(0.85)
        back = theme.color("panel")
        self._renderer.SetBackground(back.redF(), back.greenF(), back.blueF())
        if not self._framed:
            self.reset()

    def reset(self) -> None:
        """Look from the front right, from above; the next picture is filled by what is shown."""
        camera = self._renderer.GetActiveCamera()
        self._normals.Update()
        x0, x1, y0, y1, z0, z1 = self._actor.GetBounds()
        centre = ((x0 + x1) / 2, (y0 + y1) / 2, (z0 + z1) / 2)
        camera.SetFocalPoint(*centre)
        camera.SetPosition(centre[0] + 0.35, centre[1] - 1.0, centre[2] + 0.62)
        camera.SetViewUp(0, 0, 1)
        camera.SetViewAngle(VIEW_ANGLE)
        self._renderer.ResetCamera(x0, x1, y0, y1, z0, z1)
        self._framed, self._fitted = True, True

    def _fit(self, aspect: float) -> None:
        """Open the camera just so far that every corner of what is shown is in the picture."""
        camera = self._renderer.GetActiveCamera()
        to_camera = camera.GetViewTransformMatrix()
        x, y, z = (self._actor.GetBounds()[k : k + 2] for k in (0, 2, 4))
        seen = np.array([to_camera.MultiplyPoint((a, b, c, 1.0))[:3] for a in x for b in y for c in z])
        wide, high = np.abs(seen[:, :2] / -seen[:, 2:]).max(axis=0)
        camera.SetViewAngle(float(np.degrees(2.0 * np.arctan(max(high, wide / aspect) / FILLED))))

    def turn(self, azimuth: float, elevation: float) -> None:
        """Turn the camera about the part, staying above the plate."""
        self._fitted = False
        camera = self._renderer.GetActiveCamera()
        camera.Azimuth(azimuth)
        direction = np.array(camera.GetPosition()) - np.array(camera.GetFocalPoint())
        now = np.degrees(np.arcsin(direction[2] / np.linalg.norm(direction)))
        camera.Elevation(float(np.clip(elevation, 3.0 - now, 85.0 - now)))
        camera.SetViewUp(0, 0, 1)
        self._renderer.ResetCameraClippingRange()

    def zoom(self, factor: float) -> None:
        """Nearer or farther."""
        self._fitted = False
        self._renderer.GetActiveCamera().Zoom(factor)
        self._renderer.ResetCameraClippingRange()

    def project(self, place: tuple[float, float, float]) -> tuple[float, float]:
        """Where a place (m) is in the newest picture, in its pixels from the lower left."""
        self._renderer.SetWorldPoint(1e3 * place[0], 1e3 * place[1], 1e3 * place[2], 1.0)
        self._renderer.WorldToDisplay()
        x, y, _ = self._renderer.GetDisplayPoint()
        return float(x), float(y)

    def hit(self, x: float, y: float) -> tuple[float, float, float] | None:
        """The place (m) of the part that a pixel (from the lower left) of the newest picture shows; None: no part there."""
        from vtkmodules.vtkRenderingCore import vtkCellPicker

        picker = vtkCellPicker()
        picker.SetTolerance(1e-4)
        picker.PickFromListOn()
        picker.AddPickList(self._actor)
        if not picker.Pick(x, y, 0.0, self._renderer):
            return None
        found = picker.GetPickPosition()
        return (1e-3 * found[0], 1e-3 * found[1], 1e-3 * found[2])

    def picture(self, width: int, height: int) -> QImage:
        """Render an image of the given size."""
        from vtkmodules.vtkCommonCore import vtkUnsignedCharArray

        self._window.SetSize(width, height)
        if self._fitted:
            self._fit(width / height)
        self._renderer.ResetCameraClippingRange()
        self._window.Render()
        data = vtkUnsignedCharArray()
        self._window.GetPixelData(0, 0, width - 1, height - 1, 0, data, 0)
        pixels = self._support.vtk_to_numpy(data).reshape(height, width, 3)[::-1]
        pixels = np.ascontiguousarray(pixels)
        return QImage(pixels.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
