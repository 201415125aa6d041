"""Zonal Mantle: sky replacement and set extension for moving shots."""

from .paths import keep_kernels_in_cache, multiply_on_one_core

__version__ = "0.1.0"

multiply_on_one_core()
keep_kernels_in_cache()
