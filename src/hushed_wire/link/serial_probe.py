"""A probe on a serial port as a link: the host's side of the line protocol, over pyserial."""

from __future__ import annotations

import time
from typing import Any

from ..extras import wanted
from . import wire_talk
from .base import BusHeld, LinkLost, LinkUnusable, Refused

__all__ = ["SerialProbe", "open_serial"]

TRIES, GREETINGS, PATIENCE = 12, 4, 0.3  # how often a request goes out (the first one: fewer), seconds to wait for an answer
BAUD = 115200


def open_serial(path: str) -> SerialProbe:
    """Opens a serial port and asks who is there. Raises LinkUnusable: absent, not permitted, busy, or nobody who speaks so."""
    with wanted("pyserial", "a serial probe wants", "--link"):
        import serial
    try:
        port = serial.Serial(path, BAUD, timeout=0.05, write_timeout=2, exclusive=True)
    except (OSError, ValueError) as error:
        text = str(error)
        what, remedy = ("cannot be opened", "check the name of the port")
        if "No such file" in text:
            what, remedy = "is absent", "plug the probe in; its port often is /dev/ttyACM0 or /dev/ttyUSB0"
        elif "ermission" in text:
            what, remedy = "may not be opened", "add yourself to the group that owns it (often dialout) and log in again"
        elif "busy" in text or "lock" in text:
            what, remedy = "is in use", "close the program that holds it, often a serial monitor"
        raise LinkUnusable(what, where=path, remedy=remedy) from error
    return SerialProbe(path, port)


class SerialProbe:
    """A probe. room: bytes of one transfer that it has memory for."""

    quick = True

    def __init__(self, path: str, port: Any) -> None:
        self.path, self.port = path, port
        self.number = 0
        self.waiting = b""
        answer, words = self.ask("who", lost=LinkUnusable)
        facts = dict(word.partition("=")[::2] for word in words)
        if answer != "done" or facts.get("talk") != "1":
            raise LinkUnusable(
                "speaks another version of the probe's language",
                where=path,
                remedy="update the probe's firmware; see docs/probe.md",
            )
        self.name = f"the probe '{facts.get('name', '?')}' on {path}"
        self.room = max(2, self._number(facts.get("room", "32"), 1 << 20, LinkUnusable))

    def ask(
        self, verb: str, *words: str, lost: type[LinkLost] | type[LinkUnusable] = LinkLost, patience: float = PATIENCE
    ) -> tuple[str, list[str]]:
        """A request and its answer; repeated when what comes back does not check or nothing comes at all."""
        self.number = self.number % 255 + 1
        request = wire_talk.pack(self.number, verb, *words)
        heard = False
        try:
            for _ in range(GREETINGS if verb == "who" else TRIES):
                self.port.write(request)
                end = time.monotonic() + patience
                while time.monotonic() < end:
                    line = self._line()
                    if line is None:
                        continue
                    heard = True
                    answer = wire_talk.unpack(line)
                    if answer is not None and answer[0] == self.number:
                        return answer[1], answer[2]
                    if answer is not None and answer[1] == "garbled":
                        break  # the probe could not read the request: send it again at once
        except OSError as error:
            raise lost("the port is gone", where=self.path, remedy="plug the probe in again") from error
        what = "what comes back cannot be read" if heard else "nothing answers"
        remedy = (
            "check that a probe with this program's language is on that port (docs/probe.md), and that nothing else prints there"
        )
        raise lost(what, where=self.path, remedy=remedy)

    def _line(self) -> bytes | None:
        if b"\n" not in self.waiting:
            self.waiting += self.port.read(max(1, self.port.in_waiting))
            if len(self.waiting) > wire_talk.LONGEST and b"\n" not in self.waiting:
                self.waiting = b""  # garbage without an end
        if b"\n" not in self.waiting:
            return None
        line, _, self.waiting = self.waiting.partition(b"\n")
        return line

    def heard(self, seconds: float) -> tuple[str, list[str]] | None:
        """What the probe says by itself while it watches: verb and words; None where nothing whole came in that time. Damaged lines are dropped."""
        end = time.monotonic() + seconds
        while True:
            line = self._line()
            if line is not None:
                said = wire_talk.unpack(line)
                if said is not None:
                    return said[1], said[2]
            elif time.monotonic() >= end:
                return None

    def _transfer(self, address: int, data: bytes, count: int) -> bytes:
        answer, words = self.ask("transfer", f"{address:02x}", data.hex() or "-", str(count))
        if answer == "done":
            return self._bytes(words[0] if words else "-", count)
        if answer == "refused":
            raise Refused(address, self._number(words[0], len(data)) if words else 0)
        if answer == "held":
            raise _held(self.path, words[0] if words else "a line")
        raise LinkLost(f"the transfer failed: {' '.join(words)}", where=self.path, remedy="check the probe and its wires")

    def _number(self, text: str, most: int, kind: type[LinkLost] | type[LinkUnusable] = LinkLost) -> int:
        """A number in an answer, 0 to `most`."""
        if not (text.isascii() and text.isdecimal() and len(text) < 10 and int(text) <= most):
            raise self._senseless(f"'{text}' where a number from 0 to {most} belongs", kind)
        return int(text)

    def _bytes(self, text: str, count: int) -> bytes:
        """The bytes of an answer, `count` of them; `-` is none."""
        try:
            data = bytes.fromhex(text) if text != "-" else b""
        except ValueError as error:
            raise self._senseless(f"'{text}' where bytes in hex belong") from error
        if len(data) != count:
            raise self._senseless(f"{len(data)} bytes where {count} were asked for")
        return data

    def _senseless(self, what: str, kind: type[LinkLost] | type[LinkUnusable] = LinkLost) -> LinkLost | LinkUnusable:
        return kind(f"the probe answers {what}", where=self.path, remedy="mend its firmware; docs/probe.md says what it answers")

    def check(self) -> None:
        """The probe tells a line that is held low."""
        answer, words = self.ask("levels")
        low = [word.partition("=")[0] for word in words if word.endswith("=0")]
        if answer == "done" and low:
            raise _held(self.path, low[0])

    def write(self, address: int, data: bytes) -> None:
        """One write transaction."""
        self._transfer(address, data, 0)

    def read(self, address: int, count: int) -> bytes:
        """One read transaction."""
        return self._transfer(address, b"", count)

    def line(self, name: str, level: int) -> None:
        """Sets a line of the probe, like a reset."""
        answer, words = self.ask("line", name, str(level))
        if answer != "done":
            raise LinkUnusable(
                f"the probe has no line '{name}': {' '.join(words)}", where=self.path, remedy="see the probe's description"
            )

    def wait(self, seconds: float) -> None:
        """Rests on the host: a serial line is not exact to less."""
        time.sleep(seconds)

    def clock(self) -> float:
        """Seconds."""
        return time.monotonic()

    def close(self) -> None:
        """Closes the port."""
        self.port.close()


def _held(path: str, line: str) -> BusHeld:
    return BusHeld(
        f"{line.upper()} is held low, so nothing can be sent", where=path,
        remedy="check its pull-up and look for a short; power the devices off and on; if SDA stays low, clock SCL nine times and send a STOP",
    )  # fmt: skip
