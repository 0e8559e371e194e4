"""The store's shape, step by step: numbered SQL, and code for a step that has to read the old content.

``{key}`` and ``{octets}`` stand for what each database calls a row's own number and octets.
"""
