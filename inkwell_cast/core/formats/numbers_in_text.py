"""Numbers in text, read by compiled code; used by the text formats."""

import numpy as np

from ..base.array_types import F64, U8
from ..base.kernel_types import Whole
from ..base.kernels import kernel

_POWERS = 10.0 ** np.arange(0, 23)


def decoded(name: bytes) -> str:
    """A name of a text file: UTF-8, or else Latin-1, in which any bytes say something."""
    try:
        return name.decode("utf-8")
    except UnicodeDecodeError:
        return name.decode("latin-1")


@kernel
def is_space(c: int) -> bool:
    return c == 32 or c == 9 or c == 13 or c == 11 or c == 12


@kernel
def _scaled(value: float, exponent: int) -> float:
    while exponent > 22:
        value *= 1e22
        exponent -= 22
    while exponent < -22:
        value /= 1e22
        exponent += 22
    return value * _POWERS[exponent] if exponent >= 0 else value / _POWERS[-exponent]


@kernel
def _read_exponent(data: U8, i: int, end: int) -> tuple[Whole, int]:
    """The power of ten after an e at i and the place after it; 0 and i where there is none."""
    if i >= end or (data[i] | 32) != 101:
        return np.int64(0), i
    j, negative = i + 1, False
    if j < end and (data[j] == 43 or data[j] == 45):
        negative = data[j] == 45
        j += 1
    power, any_digit = np.int64(0), False
    while j < end and 48 <= data[j] <= 57:
        if power < 10000:
            power = power * 10 + np.int64(data[j] - 48)
        any_digit = True
        j += 1
    if not any_digit:
        return np.int64(0), i
    return -power if negative else power, j


@kernel
def read_number(data: U8, at: int, end: int) -> tuple[float, int]:
    """The number at `at`: (value, place after it); the place is -1 where no number stands. Reads nan and inf."""
    sign = 1.0
    i = at
    if i < end and (data[i] == 43 or data[i] == 45):
        sign = -1.0 if data[i] == 45 else 1.0
        i += 1
    if i + 2 < end and (data[i] | 32) == 110 and (data[i + 1] | 32) == 97 and (data[i + 2] | 32) == 110:
        i += 3
        while i < end and not is_space(data[i]) and data[i] != 10:  # nan(ind) and its kin
            i += 1
        return np.nan, i
    if i + 2 < end and (data[i] | 32) == 105 and (data[i + 1] | 32) == 110 and (data[i + 2] | 32) == 102:
        i += 3
        while i < end and not is_space(data[i]) and data[i] != 10:
            i += 1
        return sign * np.inf, i
    mantissa, digits, exponent = np.int64(0), 0, 0
    seen, point = False, False
    while i < end:
        c = data[i]
        if 48 <= c <= 57:
            seen = True
            if digits < 18:
                mantissa = mantissa * 10 + np.int64(c - 48)
                if mantissa:
                    digits += 1
                if point:
                    exponent -= 1
            elif not point:
                exponent += 1
        elif c == 46 and not point:
            point = True
        else:
            break
        i += 1
    if not seen:
        return 0.0, -1
    power, i = _read_exponent(data, i, end)
    exponent = min(max(exponent + power, -400), 400)
    return sign * _scaled(np.float64(mantissa), exponent), i


@kernel
def read_all(data: U8, at: int, wanted: int) -> tuple[F64, int, int]:
    """Up to `wanted` numbers from `at` on, whatever the lines: (values float64, count, place where reading ended)."""
    values = np.empty(wanted, np.float64)
    end = len(data)
    count = 0
    while count < wanted:
        while at < end and (is_space(data[at]) or data[at] == 10):
            at += 1
        if at >= end:
            break
        value, after = read_number(data, at, end)
        if after < 0:
            break
        values[count] = value
        count += 1
        at = after
    return values, count, at
