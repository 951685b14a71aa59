"""Text of other languages, written so that no value in it is taken for anything but a value.

Each language that the program writes has one module here. What comes out is of its own type, made of constant
templates and of values that a function of that module has quoted; a value of another type is refused. What a language
cannot say is refused with words, before anything is written.
"""

from kettlepost.core.quoting.language import Code
from kettlepost.core.quoting.text import lines, plain

__all__ = ["Code", "lines", "plain"]
