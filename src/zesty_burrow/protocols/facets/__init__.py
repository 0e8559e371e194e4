"""The parts of a protocol that the rest of the program uses: one interface per module.

A protocol implements a part in its own folder, as ``FACET`` in ``facets/<part>.py``.
"""
