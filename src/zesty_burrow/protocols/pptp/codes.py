"""Findings of PPTP's own."""

from zesty_burrow.core.codes.code import Code, Severity

UNPROTECTED = Code(
    "pptp-unprotected",
    Severity.SERIOUS,
    "The tunnel uses PPTP, which protects next to nothing.",
    "Its keys follow from the password, which can be computed from one recorded sign-in; its cipher is RC4, and "
    "nothing notices a changed packet.",
    "Use it only until you have something else: ask for IKEv2 at the same gateway, and take a new password.",
    "RFC 3079 §1, RFC 7465",
)
CODES = (UNPROTECTED,)
