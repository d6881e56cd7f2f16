#!/usr/bin/env python3
"""Checks a receipt with nothing but the public keys and a general-purpose crypto library.

usage: verify.py JWKS-FILE ISSUER AUDIENCE [NOW] < receipt

It prints the subject, or says on standard error what is wrong. This is what another service does:
it knows the JWK Set of the site, which `illumicode keys jwks` prints, and no code of Illumicode.
"""
import base64
import json
import sys
import time

import nacl.exceptions
import nacl.signing


def decode(text):
    raw = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    if base64.urlsafe_b64encode(raw).decode().rstrip("=") != text:
        raise ValueError("base64 that is not written as it should be")
    return raw


def verify(receipt, keys, issuer, audience, now):
    header64, payload64, signature64 = receipt.split(".")
    header = json.loads(decode(header64))
    # The algorithm comes from the key, never from the header (RFC 8725).
    if header.get("typ") != "illumicode-receipt+jwt" or header.get("alg") != "EdDSA" or "crit" in header:
        raise ValueError("not a receipt")
    key = next((k for k in keys if k["kid"] == header.get("kid") and k["kty"] == "OKP" and k["crv"] == "Ed25519"), None)
    if key is None:
        raise ValueError("signed with an unknown key")
    nacl.signing.VerifyKey(decode(key["x"])).verify(f"{header64}.{payload64}".encode(), decode(signature64))
    claims = json.loads(decode(payload64))
    if claims["iss"] != issuer or claims["aud"] != audience:
        raise ValueError("made by another site, or for another service")
    if not claims["iat"] - 60 <= now < claims["exp"]:
        raise ValueError("expired")
    return claims


if __name__ == "__main__":
    with open(sys.argv[1]) as f:
        keys = json.load(f)["keys"]
    now = float(sys.argv[4]) if len(sys.argv) > 4 else time.time()
    try:
        print(verify(sys.stdin.read().strip(), keys, sys.argv[2], sys.argv[3], now)["sub"])
    except (ValueError, KeyError, nacl.exceptions.CryptoError) as e:
        sys.exit(f"refused: {e or 'the signature does not fit'}")
