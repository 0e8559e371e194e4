"""Findings of L2TP/IPsec's own."""

from zesty_burrow.core.codes.code import Code, Severity

CODES = (
    Code(
        "ikev1-used",
        Severity.WARNING,
        "The tunnel is set up by IKEv1, which is retired.",
        "It gets no corrections any more; anybody who knows a pre-shared key can pose as the gateway.",
        "Ask for IKEv2 at the same gateway: `zesty advise` shows what it can do.",
        "RFC 9395 §3",
    ),
)
