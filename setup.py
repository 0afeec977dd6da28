"""Compiles the kernels that look at single values; everything else is told by pyproject.toml."""

import shlex
import subprocess
from pathlib import Path

from Cython.Build import cythonize
from setuptools import Extension, setup

# the kernels that talk with the MariaDB C client, which its Python driver is built against as well
CLIENT = ("guard.pyx", "binlog.pyx")


def client_options(flag):
    return shlex.split(subprocess.run(["mariadb_config", flag], capture_output=True, text=True, check=True).stdout)


sources = sorted(Path("src").rglob("*.pyx"))
extensions = [
    Extension(
        ".".join(source.with_suffix("").parts[1:]),
        [str(source)],
        include_dirs=["src"],
        extra_compile_args=["-O3", *(client_options("--cflags") if source.name in CLIENT else ())],
        extra_link_args=client_options("--libs") if source.name in CLIENT else [],
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
