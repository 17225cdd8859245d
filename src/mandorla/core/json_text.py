"""JSON that comes from outside: every way in which it can be spoilt is one refusal."""

from __future__ import annotations

import json
import re
from typing import Any, Final

from mandorla.core.errors import InputError

_HALF: Final = re.compile(  # half of a pair of surrogates: no text that could be written again
    r"\\u[dD][89abAB][0-9a-fA-F]{2}(?!\\u[dD][c-fC-F])|(?<!\\u[dD][89abAB][0-9a-fA-F]{2})\\u[dD][c-fC-F][0-9a-fA-F]{2}"
)


def json_of(data: bytes | str, what: str) -> Any:
    """The value of a JSON text.

    Parameters
    ----------
    data
        The text, or its bytes in UTF-8.
    what
        What it is, for the message.

    Raises
    ------
    InputError
        With the place and the reason: broken text, another encoding, too deep, numbers of thousands of digits, half a character.
    """
    try:
        text = data.decode("utf-8-sig") if isinstance(data, bytes) else data
    except UnicodeDecodeError as error:
        raise InputError(f"{what} is not UTF-8 at byte {error.start}.") from None
    half = _HALF.search(text)
    if half is not None:
        line = text.count("\n", 0, half.start()) + 1
        raise InputError(f"{what}, line {line}: {half.group()} is half of a character.")
    try:
        return json.loads(text)
    except json.JSONDecodeError as error:
        raise InputError(f"{what} line {error.lineno}, column {error.colno}: {error.msg}.") from None
    except RecursionError:
        raise InputError(f"{what} is nested too deeply.") from None
    except ValueError:  # of whole numbers, whose digits are limited
        raise InputError(f"{what} holds a number of thousands of digits.") from None
