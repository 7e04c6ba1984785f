"""Sends what the library of Python sends: syslog over UDP and TCP to the two ports that are given."""

import logging
import logging.handlers
import socket
import sys

for port, kind, way in ((sys.argv[1], socket.SOCK_DGRAM, "UDP"), (sys.argv[2], socket.SOCK_STREAM, "TCP")):
    handler = logging.handlers.SysLogHandler(("127.0.0.1", int(port)), facility="local3", socktype=kind)
    handler.ident = "tides[7]: "
    logger = logging.getLogger(way)
    logger.addHandler(handler)
    logger.warning("Python by %s", way)
    try:
        raise ValueError("high water")
    except ValueError:
        logger.exception("Python fails by %s", way)
    logger.critical("Python ends by %s", way)
    handler.close()
