"""How much a tunnel carries: ours, ``ssh -w`` and ``socat`` over DTLS, all up at once and measured in turn."""
