"""Signs and checks tokens with nothing of Vorsel's: Python's standard library and the openssl command.

sign ALG FOLDER         makes a key, writes it to FOLDER (key.pem and public.pem, or secret.jwk), prints a token
check ALG KEY TOKEN     exit status 0 if the token's signature is right for the JWK in KEY, 1 if not
"""

import base64
import hashlib
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


def der_integer(number):
    body = number.to_bytes(number.bit_length() // 8 + 1, "big")
    return b"\x02" + bytes([len(body)]) + body


def der_from_raw(raw):
    body = der_integer(int.from_bytes(raw[:32], "big")) + der_integer(int.from_bytes(raw[32:], "big"))
    return b"\x30" + bytes([len(body)]) + body


def raw_from_der(der):
    length = der[3]
    numbers = der[4 : 4 + length], der[6 + length :]
    return b"".join(int.from_bytes(number, "big").to_bytes(32, "big") for number in numbers)


def sign(algorithm, folder):
    folder = pathlib.Path(folder)
    claims = {
        "iss": "https://id.skarnhill.test", "aud": "https://api.skarnhill.test", "sub": "obs-0017",
        "client_id": "desk", "jti": "outside", "iat": int(time.time()), "exp": int(time.time()) + 300, "training": 2,
    }
    header = {"typ": "at+jwt", "alg": algorithm}
    data = (encode(json.dumps(header).encode()) + "." + encode(json.dumps(claims).encode())).encode()
    key, public, message = folder / "key.pem", folder / "public.pem", folder / "message"
    message.write_bytes(data)
    if algorithm == "HS256":
        secret = os.urandom(32)
        (folder / "secret.jwk").write_text(json.dumps({"kty": "oct", "k": encode(secret)}))
        signature = hmac.new(secret, data, hashlib.sha256).digest()
    else:
        kind = ["EC", "-pkeyopt", "ec_paramgen_curve:P-256"] if algorithm == "ES256" else ["ed25519"]
        openssl("genpkey", "-algorithm", *kind, "-out", key, check=True)
        openssl("pkey", "-in", key, "-pubout", "-out", public, check=True)
        if algorithm == "ES256":
            signature = raw_from_der(openssl("dgst", "-sha256", "-sign", key, message, check=True).stdout)
        else:
            signature = openssl("pkeyutl", "-sign", "-rawin", "-inkey", key, "-in", message, check=True).stdout
    print(data.decode() + "." + encode(signature))


def public_pem(jwk):
    if jwk["kty"] == "EC":
        prefix = "3059301306072a8648ce3d020106082a8648ce3d03010703420004"
        der = bytes.fromhex(prefix) + decode(jwk["x"]) + decode(jwk["y"])
    else:
        der = bytes.fromhex("302a300506032b6570032100") + decode(jwk["x"])
    return "-----BEGIN PUBLIC KEY-----\n" + base64.b64encode(der).decode() + "\n-----END PUBLIC KEY-----\n"


def check(algorithm, key, token):
    jwk = json.loads(pathlib.Path(key).read_text())
    data, signature = token.rsplit(".", 1)
    if json.loads(decode(data.split(".")[0]))["alg"] != algorithm:
        return False
    data, signature = data.encode(), decode(signature)
    if algorithm == "HS256":
        return hmac.compare_digest(hmac.new(decode(jwk["k"]), data, hashlib.sha256).digest(), signature)
    with tempfile.TemporaryDirectory() as folder:
        folder = pathlib.Path(folder)
        public, message, proof = folder / "public.pem", folder / "message", folder / "signature"
        public.write_text(public_pem(jwk))
        message.write_bytes(data)
        proof.write_bytes(der_from_raw(signature) if algorithm == "ES256" else signature)
        if algorithm == "ES256":
            done = openssl("dgst", "-sha256", "-verify", public, "-signature", proof, message)
        else:
            done = openssl("pkeyutl", "-verify", "-rawin", "-pubin", "-inkey", public, "-sigfile", proof, "-in", message)
        return done.returncode == 0


if sys.argv[1] == "sign":
    sign(*sys.argv[2:])
else:
    sys.exit(0 if check(*sys.argv[2:]) else 1)
