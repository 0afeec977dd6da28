"""Compiles the kernels that look at single values; everything else is told by pyproject.toml."""

from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup

sources = sorted(Path("src").rglob("*.pyx"))
extensions = [
    Extension(
        ".".join(source.with_suffix("").parts[1:]), [str(source)], include_dirs=["src"], extra_compile_args=["-O3"]
    )
    for source in sources
]
directives = {
    "language_level": 3,
    "boundscheck": False,
    "wraparound": False,
    "cdivision": True,
    "initializedcheck": False,
}
setup(
    ext_modules=cythonize(extensions, include_path=["src"], compiler_directives=directives, build_dir="build/cython")
)
