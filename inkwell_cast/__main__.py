"""`python -m inkwell_cast` is the command line."""

import sys

from .cli import main

sys.exit(main())
