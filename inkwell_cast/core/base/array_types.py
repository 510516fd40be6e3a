"""Names for the array types that signatures use."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
I8 = NDArray[np.int8]
I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
U8 = NDArray[np.uint8]
U16 = NDArray[np.uint16]
U64 = NDArray[np.uint64]
Bool = NDArray[np.bool_]
AnyArray = NDArray[Any]
