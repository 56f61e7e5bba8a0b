"""What an emitted driver calls its objects with, and every wait, a line each: run by this interpreter and by a micro-controller's."""

import sys


class Clock:
    @staticmethod
    def sleep_us(us):
        print("us", us)

    @staticmethod
    def sleep_ms(ms):
        print("us", 1000 * ms)


class Bus:
    def writeto(self, address, raw):
        print("to", address, list(raw))

    def write(self, raw):
        print("words", list(raw))


def pin(role):
    def call(level):
        print(role, level)

    return call


def run(name, kind, roles, calls):
    sys.modules["time"] = Clock
    own = {}
    with open(name + ".py") as file:  # noqa: PTH123 (a micro-controller has no pathlib)
        exec(file.read(), own)
    made = [value for key, value in own.items() if isinstance(value, type) and key[0] != "_"]
    display = made[0](*([Bus()] if kind else []), **({} if kind == "i2c" else {role: pin(role) for role in roles}))
    display.start()
    display.show()
    exec(calls, {"o": display})
