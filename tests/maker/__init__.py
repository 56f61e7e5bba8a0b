"""A second maker of captures: masters and displays written from the standards and datasheets alone.

Nothing here uses the program: no bus, no part, no rehearsal of it. So what the program says of these captures is not checked against itself.
`wave` holds the lines, `masters` drive them as a processor does, `displays` are set-ups and scenes, `mishaps` are wires gone wrong, `volts` are lines
seen by an oscilloscope, `writers` are files, `cases` are labelled captures of them all.
"""
