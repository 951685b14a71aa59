"""The one compiled module; without a compiler the same is done without it, only slower."""

from setuptools import Extension, setup

setup(
    ext_modules=[
        Extension(
            "kettlepost.sources._folders",
            ["src/kettlepost/sources/_folders.c"],
            define_macros=[("Py_LIMITED_API", "0x030b0000")],
            py_limited_api=True,
            optional=True,
        )
    ],
    options={"bdist_wheel": {"py_limited_api": "cp311"}},
)
