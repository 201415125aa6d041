"""The examples in the docstrings hold."""

import doctest
import importlib
import linecache
import pkgutil

import numpy as np
import pytest

import zonal_mantle

MODULES = [
    found.name
    for found in pkgutil.walk_packages(zonal_mantle.__path__, "zonal_mantle.")
    if not found.name.startswith("zonal_mantle.ui")
]


@pytest.mark.parametrize("name", MODULES)
def test_the_examples_of_a_module_hold(name):
    module = importlib.import_module(name)
    linecache.clearcache()  # of each example every file that stands in it would be looked for
    assert doctest.testmod(module, extraglobs={"np": np}).failed == 0
