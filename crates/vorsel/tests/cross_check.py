"""Signs and checks tokens with nothing of Vorsel's: Python's standard library and the openssl command.

sign ALG FOLDER         makes a key, writes it to FOLDER (key.pem and public.pem, or keys.jwk), prints a token
check ALG KEY TOKEN     exit status 0 if the token's signature is right for the JWK in KEY, 1 if not
"""

import base64
import hmac
import json
import os
import pathlib
import subprocess
import sys
import tempfile
import time


def encode(data):
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def decode(text):
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def openssl(*arguments, **options):
    return subprocess.run(["openssl", *arguments], capture_output=True, **options)


def der_length(length):
    return bytes([length]) if length < 128 else b"\x81" + bytes([length])


def der_integer(number):
    body = number.to_bytes(number.bit_length() // 8 + 1, "big")
    return b"\x02" + der_length(len(body)) + body


def der_from_raw(raw):
    half = len(raw) // 2
    body = der_integer(int.from_bytes(raw[:half], "big")) + der_integer(int.from_bytes(raw[half:], "big"))
    return b"\x30" + der_length(len(body)) + body


def raw_from_der(der, size):
    at = 3 if der[1] == 0x81 else 2
    numbers = []
    while at < len(der):
        length = der[at + 1]
        numbers.append(int.from_bytes(der[at + 2 : at + 2 + length], "big").to_bytes(size, "big"))
        at += 2 + length
    return b"".join(numbers)


CURVES = {"ES256": ("P-256", 32), "ES384": ("P-384", 48), "ES512": ("P-521", 66)}
PSS = ["-sigopt", "rsa_padding_mode:pss", "-sigopt", "rsa_pss_saltlen:digest"]


def digest_options(algorithm):
    return ["-sha" + algorithm[2:], *(PSS if algorithm.startswith("PS") else [])]


def sign(algorithm, folder):
    folder = pathlib.Path(folder)
    now = int(time.time())
    claims = {
        "iss": "https://id.skarnhill.test", "aud": "https://api.skarnhill.test", "sub": "obs-0017",
        "client_id": "desk", "jti": "outside", "iat": now, "exp": now + 300, "training": 2,
    }
    header = {"typ": "at+jwt", "alg": algorithm}
    data = (encode(json.dumps(header).encode()) + "." + encode(json.dumps(claims).encode())).encode()
    key, public, message = folder / "key.pem", folder / "public.pem", folder / "message"
    message.write_bytes(data)
    if algorithm.startswith("HS"):
        secret = os.urandom(64)
        jwk = {"kty": "oct", "alg": algorithm, "k": encode(secret)}
        signature = hmac.new(secret, data, "sha" + algorithm[2:]).digest()
    else:
        kind = {"E": ["ed25519"], "R": ["RSA"], "P": ["RSA"]}[algorithm[0]]
        if algorithm in CURVES:
            kind = ["EC", "-pkeyopt", "ec_paramgen_curve:" + CURVES[algorithm][0]]
        openssl("genpkey", "-algorithm", *kind, "-out", key, check=True)
        openssl("pkey", "-in", key, "-pubout", "-out", public, check=True)
        jwk = None
        if algorithm == "EdDSA":
            signature = openssl("pkeyutl", "-sign", "-rawin", "-inkey", key, "-in", message, check=True).stdout
        else:
            signature = openssl("dgst", *digest_options(algorithm), "-sign", key, message, check=True).stdout
        if algorithm in CURVES:
            signature = raw_from_der(signature, CURVES[algorithm][1])
        if kind == ["RSA"]:
            # PEM names no algorithm, so an RSA key goes over as a JWK that does.
            modulus = openssl("rsa", "-in", key, "-noout", "-modulus", check=True).stdout.decode().strip().split("=")[1]
            jwk = {"kty": "RSA", "alg": algorithm, "n": encode(bytes.fromhex(modulus)), "e": "AQAB"}
    if jwk:
        (folder / "keys.jwk").write_text(json.dumps(jwk))
    print(data.decode() + "." + encode(signature))


SPKI = {
    "P-256": "3059301306072a8648ce3d020106082a8648ce3d03010703420004",
    "P-384": "3076301006072a8648ce3d020106052b8104002203620004",
    "P-521": "30819b301006072a8648ce3d020106052b81040023038186000" + "4",
    "Ed25519": "302a300506032b6570032100",
}


def long_length(length):
    return b"\x82" + length.to_bytes(2, "big")


def public_pem(jwk):
    if jwk["kty"] == "RSA":
        n = b"\x00" + decode(jwk["n"])
        numbers = b"\x02" + long_length(len(n)) + n + der_integer(int.from_bytes(decode(jwk["e"]), "big"))
        bits = b"\x00\x30" + long_length(len(numbers)) + numbers
        body = bytes.fromhex("300d06092a864886f70d0101010500") + b"\x03" + long_length(len(bits)) + bits
        der = b"\x30" + long_length(len(body)) + body
    else:
        der = bytes.fromhex(SPKI[jwk["crv"]]) + decode(jwk["x"]) + decode(jwk.get("y", ""))
    return "-----BEGIN PUBLIC KEY-----\n" + base64.b64encode(der).decode() + "\n-----END PUBLIC KEY-----\n"


def check(algorithm, key, token):
    jwk = json.loads(pathlib.Path(key).read_text())
    data, signature = token.rsplit(".", 1)
    if json.loads(decode(data.split(".")[0]))["alg"] != algorithm:
        return False
    data, signature = data.encode(), decode(signature)
    if algorithm.startswith("HS"):
        return hmac.compare_digest(hmac.new(decode(jwk["k"]), data, "sha" + algorithm[2:]).digest(), signature)
    with tempfile.TemporaryDirectory() as folder:
        folder = pathlib.Path(folder)
        public, message, proof = folder / "public.pem", folder / "message", folder / "signature"
        public.write_text(public_pem(jwk))
        message.write_bytes(data)
        proof.write_bytes(der_from_raw(signature) if algorithm in CURVES else signature)
        if algorithm == "EdDSA":
            done = openssl("pkeyutl", "-verify", "-rawin", "-pubin", "-inkey", public, "-sigfile", proof, "-in", message)
        else:
            done = openssl("dgst", *digest_options(algorithm), "-verify", public, "-signature", proof, message)
        return done.returncode == 0


if sys.argv[1] == "sign":
    sign(*sys.argv[2:])
else:
    sys.exit(0 if check(*sys.argv[2:]) else 1)
