"""A bus daemon of the tests' own, with a stand-in for the desktop's notifications on it."""

from __future__ import annotations

import subprocess
import threading
from contextlib import contextmanager

from jeepney import HeaderFields, message_bus, new_method_return
from jeepney.io.blocking import open_dbus_connection

from support import until

BUS = """<busconfig>
  <type>session</type><listen>unix:path={path}</listen><auth>EXTERNAL</auth>
  <policy context="default">
    <allow user="*"/><allow own="*"/><allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/>
  </policy>
</busconfig>
"""
NAME = "org.freedesktop.Notifications"


@contextmanager
def desktop_on(folder):
    """A bus with a service that takes notifications; its address, and the arguments of what it took."""
    path, config, taken = folder / "bus", folder / "bus.conf", []
    config.write_text(BUS.format(path=path))
    daemon = subprocess.Popen(["dbus-daemon", f"--config-file={config}", "--nofork", "--nopidfile"])
    try:
        until(path.is_socket)
        connection = open_dbus_connection(f"unix:path={path}")
        connection.send_and_get_reply(message_bus.RequestName(NAME))

        def serve():
            while True:
                try:
                    message = connection.receive()
                except (OSError, EOFError):
                    return
                if message.header.fields.get(HeaderFields.member) == "Notify":
                    taken.append(message.body)
                    connection.send(new_method_return(message, "u", (len(taken),)))

        thread = threading.Thread(target=serve)
        thread.start()
        yield path, taken
    finally:
        daemon.terminate()
        daemon.wait(10)
        thread.join(10)
        connection.close()
