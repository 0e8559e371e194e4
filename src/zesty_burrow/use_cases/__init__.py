"""What the program can do, one module per piece of work: a request goes in, a result comes out.

Requests and results are frozen and typed. Nothing here parses options, prints, or reads the environment. Questions and
progress go through :class:`zesty_burrow.use_cases.interaction.Interaction`. docs/python.md shows how to use it.
"""
