"""The tests. asyncio's own log lines on slow steps and failed handshakes say nothing about them.

What they keep of keys and refused logins never lies where the person who runs them keeps theirs.
"""

import atexit
import logging
import os
import shutil
import tempfile

logging.getLogger("asyncio").setLevel(logging.CRITICAL + 1)
if "DIREKT_CONFIG" not in os.environ:
    os.environ["DIREKT_CONFIG"] = tempfile.mkdtemp(prefix="direkt-tests-")
    _MADE, _MAKER = os.environ["DIREKT_CONFIG"], os.getpid()
    atexit.register(lambda: shutil.rmtree(_MADE, ignore_errors=True) if os.getpid() == _MAKER else None)
