"""The ground floor: points through a homography, half pixels, the camera matrix, one term of lens distortion."""

from .camera import DEFAULT_FOCAL, camera_matrix, rays_of
from .distortion import distorted, undistorted
from .homography import between_centres, carry, scaling

__all__ = [
    "DEFAULT_FOCAL",
    "between_centres",
    "camera_matrix",
    "carry",
    "distorted",
    "rays_of",
    "scaling",
    "undistorted",
]
