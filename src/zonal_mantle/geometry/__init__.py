"""The ground floor: points through a homography, half pixels, the camera matrix, one term of lens distortion, a turning
camera."""

from .camera import DEFAULT_FOCAL, camera_matrix, rays_of
from .distortion import distorted, undistorted
from .homography import between_centres, carry, scaling
from .turning import ToldFocal, moved_by_turn, skew, told_focal, turn_motion, turned_by, turned_frames

__all__ = [
    "DEFAULT_FOCAL",
    "ToldFocal",
    "between_centres",
    "camera_matrix",
    "carry",
    "distorted",
    "moved_by_turn",
    "rays_of",
    "scaling",
    "skew",
    "told_focal",
    "turn_motion",
    "turned_by",
    "turned_frames",
    "undistorted",
]
