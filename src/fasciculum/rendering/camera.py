"""A camera that goes round a point."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

#: part of the view, along the longer way, that what is framed takes
FRAMED = 0.9


def box_corners(low: NDArray[np.floating], high: NDArray[np.floating]) -> NDArray[np.float64]:
    """Return the corners of a box, (8, 3)."""
    corners: NDArray[np.float64] = np.array(np.meshgrid(*zip(low, high, strict=True)), np.float64).reshape(3, -1).T
    return corners


@dataclass(frozen=True)
class Camera:
    """Where the view is from: angles in degrees about ``target``, distance in metres."""

    target: tuple[float, float, float] = (0.0, 0.0, 0.0)
    yaw: float = 35.0
    pitch: float = 22.0
    distance: float = 10.0
    field_of_view: float = 34.0

    def eye(self) -> NDArray[np.float64]:
        """Return the position of the camera."""
        return np.array(self.target) + self.distance * self.backward()

    def backward(self) -> NDArray[np.float64]:
        """Return the unit vector from the target to the camera."""
        yaw, pitch = math.radians(self.yaw), math.radians(self.pitch)
        return np.array([math.sin(yaw) * math.cos(pitch), math.sin(pitch), math.cos(yaw) * math.cos(pitch)])

    def axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return the unit vectors to the right and up on the picture."""
        yaw = math.radians(self.yaw)
        right = np.array([math.cos(yaw), 0.0, -math.sin(yaw)])
        return right, np.cross(self.backward(), right)

    def matrix(self, aspect: float) -> NDArray[np.float32]:
        """Return the matrix from world to clip space, shape (4, 4), for column vectors."""
        right, up = self.axes()
        back, eye = self.backward(), self.eye()
        view = np.eye(4)
        view[:3, :3] = [right, up, back]
        view[:3, 3] = -view[:3, :3] @ eye
        near, far = self.distance * 0.01, self.distance * 20 + 100
        f = 1 / math.tan(math.radians(self.field_of_view) / 2)
        projection = np.array(
            [
                [f / aspect, 0, 0, 0],
                [0, f, 0, 0],
                [0, 0, (far + near) / (near - far), 2 * far * near / (near - far)],
                [0, 0, -1, 0],
            ]
        )
        return (projection @ view).astype(np.float32)

    def orbit(self, across: float, down: float) -> Camera:
        """Return the camera turned by degrees."""
        return replace(self, yaw=(self.yaw - across) % 360, pitch=min(max(self.pitch + down, -89.0), 89.0))

    def pan(self, across: float, down: float) -> Camera:
        """Return the camera moved by parts of the picture's height."""
        right, up = self.axes()
        size = 2 * self.distance * math.tan(math.radians(self.field_of_view) / 2)
        moved = np.array(self.target) + size * (up * down - right * across)
        return replace(self, target=(float(moved[0]), float(moved[1]), float(moved[2])))

    def zoom(self, factor: float, at: tuple[float, float] = (0.0, 0.0)) -> Camera:
        """Return the camera nearer by a factor, the point at ``at`` (from the middle, in heights) staying put."""
        closer = replace(self, distance=min(max(self.distance / factor, 1e-3), 1e5))
        shift = 1 - closer.distance / self.distance
        right, up = self.axes()
        size = 2 * self.distance * math.tan(math.radians(self.field_of_view) / 2)
        moved = np.array(self.target) + size * shift * (right * at[0] - up * at[1])
        return replace(closer, target=(float(moved[0]), float(moved[1]), float(moved[2])))

    def framing(self, points: NDArray[np.floating], aspect: float = 1.0) -> Camera:
        """Return the camera that looks at the middle of points (N, 3), as it sees them.

        The points take `FRAMED` of the tighter side of the view; ``aspect`` is its width over its height.
        """
        middle = (points.min(axis=0) + points.max(axis=0)) / 2
        right, up = self.axes()
        for axis in (right, up):
            along = (points - middle) @ axis
            middle = middle + axis * (along.min() + along.max()) / 2
        corners = points - middle
        half = math.tan(math.radians(self.field_of_view) / 2)
        across, along = np.abs(corners @ right) / (half * aspect), np.abs(corners @ up) / half
        distance = float((corners @ self.backward() + np.maximum(across, along) / FRAMED).max())
        target = (float(middle[0]), float(middle[1]), float(middle[2]))
        return replace(self, target=target, distance=max(distance, 1e-3))
