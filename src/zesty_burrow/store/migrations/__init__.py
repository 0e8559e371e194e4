"""The store's shape, step by step: numbered SQL, and code where a step has to read what is there.

``{key}`` and ``{octets}`` stand for what each database calls a row's own number and octets.
"""
