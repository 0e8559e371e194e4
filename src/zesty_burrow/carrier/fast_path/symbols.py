"""Functions of the cipher library that Python itself has loaded (OpenSSL's EVP interface), for compiled loops to call.

Ciphers are told to be AEAD ones with nonces of twelve octets and ICVs of sixteen; a context keeps its key.
"""

from __future__ import annotations

import _ssl
import ctypes
import functools
import weakref
from typing import Any

from llvmlite import binding
from numba import types

from zesty_burrow.errors import MachineError

GET_TAG, SET_TAG = 0x10, 0x11
"""EVP_CTRL_AEAD_GET_TAG and EVP_CTRL_AEAD_SET_TAG."""
POINTER, NUMBER = types.intp, types.int32
_PREFIX = "zesty_burrow_"


@functools.cache
def _library() -> ctypes.CDLL:
    try:
        library = ctypes.CDLL(_ssl.__file__)
        library.EVP_CIPHER_CTX_new.restype = library.EVP_CIPHER_fetch.restype = ctypes.c_void_p
        library.EVP_CIPHER_fetch.argtypes = [ctypes.c_void_p, ctypes.c_char_p, ctypes.c_char_p]
        library.EVP_CIPHER_free.argtypes = library.EVP_CIPHER_CTX_free.argtypes = [ctypes.c_void_p]
        library.EVP_CipherInit_ex.argtypes = [ctypes.c_void_p] * 4 + [ctypes.c_char_p, ctypes.c_int]
    except (AttributeError, OSError) as problem:
        raise MachineError("the cipher library cannot be called from compiled code", why=str(problem)) from None
    return library


def function(library: ctypes.CDLL, name: str, result: Any, *arguments: Any) -> Any:
    """One of a library's functions under a name of ours, so that no other library's is met."""
    address = ctypes.cast(getattr(library, name), ctypes.c_void_p).value
    binding.add_symbol(_PREFIX + name, address)
    return types.ExternalFunction(_PREFIX + name, result(*arguments))


def _evp(name: str, *arguments: Any) -> Any:
    return function(_library(), name, NUMBER, *arguments)


init = _evp("EVP_CipherInit_ex", POINTER, POINTER, POINTER, POINTER, POINTER, NUMBER)
control = _evp("EVP_CIPHER_CTX_ctrl", POINTER, NUMBER, NUMBER, POINTER)
update = _evp("EVP_CipherUpdate", POINTER, POINTER, POINTER, POINTER, NUMBER)
final = _evp("EVP_CipherFinal_ex", POINTER, POINTER, POINTER)


class Context:
    """A cipher under one key, at ``address``; freed, and its memory wiped, with this object."""

    def __init__(self, cipher: str, key: bytes, *, sealing: bool) -> None:
        library = _library()
        kind = library.EVP_CIPHER_fetch(None, cipher.encode(), None)
        if not kind:
            raise MachineError(f"the cipher library does not know {cipher}")
        self.address: int = library.EVP_CIPHER_CTX_new()
        weakref.finalize(self, library.EVP_CIPHER_CTX_free, self.address)
        done = library.EVP_CipherInit_ex(self.address, kind, None, key, None, sealing)
        library.EVP_CIPHER_free(kind)
        if done != 1:
            raise MachineError(f"the cipher library refuses {cipher}")
