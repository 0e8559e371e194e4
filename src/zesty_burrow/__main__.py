"""``python -m zesty_burrow`` is the command ``zesty``."""

import sys

from zesty_burrow.entry import main

sys.exit(main())
