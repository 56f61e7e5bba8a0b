"""Seconds from a file to a Trace, start-up apart: files.py FILE [pandas]. Prints seconds, entries and the last time."""

import sys
import time


def main() -> None:
    path = sys.argv[1]
    if "pandas" in sys.argv:
        import pandas

        begin = time.perf_counter()
        table = pandas.read_csv(path)
        print(time.perf_counter() - begin, len(table), 0)
        return
    from hushed_wire.trace import open_capture, table, vcd  # noqa: F401  (loaded ahead, so that it is not counted)

    if path.endswith("csv"):
        import pandas
    begin = time.perf_counter()
    trace = open_capture(path).read()
    print(time.perf_counter() - begin, len(trace), int(trace.times[-1]))


if __name__ == "__main__":
    main()
