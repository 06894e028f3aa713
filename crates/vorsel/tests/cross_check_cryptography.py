"""Signs and checks tokens with nothing of Vorsel's: Python's `cryptography`. Called as cross_check.py is."""

import base64
import json
import os
import pathlib
import sys
import time

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes, hmac, serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa, utils

HASHES = {"256": hashes.SHA256(), "384": hashes.SHA384(), "512": hashes.SHA512()}
CURVES = {"ES256": ec.SECP256R1(), "ES384": ec.SECP384R1(), "ES512": ec.SECP521R1()}
NAMES = {"P-256": ec.SECP256R1(), "P-384": ec.SECP384R1(), "P-521": ec.SECP521R1()}


def encode(data):
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def decode(text):
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def number(text):
    return int.from_bytes(decode(text), "big")


def number_text(value):
    return encode(value.to_bytes((value.bit_length() + 7) // 8, "big"))


def rsa_padding(algorithm):
    digest = HASHES[algorithm[2:]]
    if algorithm.startswith("RS"):
        return padding.PKCS1v15()
    return padding.PSS(mgf=padding.MGF1(digest), salt_length=digest.digest_size)


def sign(algorithm, folder):
    folder = pathlib.Path(folder)
    now = int(time.time())
    claims = {
        "iss": "https://id.skarnhill.test", "aud": "https://api.skarnhill.test", "sub": "obs-0017",
        "client_id": "desk", "jti": "outside", "iat": now, "exp": now + 300, "training": 2,
    }
    header = {"typ": "at+jwt", "alg": algorithm}
    data = (encode(json.dumps(header).encode()) + "." + encode(json.dumps(claims).encode())).encode()
    jwk = None
    if algorithm.startswith("HS"):
        secret = os.urandom(64)
        mac = hmac.HMAC(secret, HASHES[algorithm[2:]])
        mac.update(data)
        signature, jwk = mac.finalize(), {"kty": "oct", "alg": algorithm, "k": encode(secret)}
    elif algorithm in CURVES:
        key = ec.generate_private_key(CURVES[algorithm])
        r, s = utils.decode_dss_signature(key.sign(data, ec.ECDSA(HASHES[algorithm[2:]])))
        size = (key.curve.key_size + 7) // 8
        signature = r.to_bytes(size, "big") + s.to_bytes(size, "big")
    elif algorithm == "EdDSA":
        key = ed25519.Ed25519PrivateKey.generate()
        signature = key.sign(data)
    else:
        key = rsa.generate_private_key(65537, 2048)
        signature = key.sign(data, rsa_padding(algorithm), HASHES[algorithm[2:]])
        numbers = key.public_key().public_numbers()
        jwk = {"kty": "RSA", "alg": algorithm, "n": number_text(numbers.n), "e": number_text(numbers.e)}
    if not algorithm.startswith("HS"):
        pem, plain = serialization.Encoding.PEM, serialization.NoEncryption()
        (folder / "key.pem").write_bytes(key.private_bytes(pem, serialization.PrivateFormat.PKCS8, plain))
        public = key.public_key().public_bytes(pem, serialization.PublicFormat.SubjectPublicKeyInfo)
        (folder / "public.pem").write_bytes(public)
    if jwk:
        (folder / "keys.jwk").write_text(json.dumps(jwk))
    print(data.decode() + "." + encode(signature))


def check(algorithm, key, token):
    jwk = json.loads(pathlib.Path(key).read_text())
    data, signature = token.rsplit(".", 1)
    if json.loads(decode(data.split(".")[0]))["alg"] != algorithm:
        return False
    data, signature = data.encode(), decode(signature)
    try:
        if jwk["kty"] == "oct":
            mac = hmac.HMAC(decode(jwk["k"]), HASHES[algorithm[2:]])
            mac.update(data)
            mac.verify(signature)
        elif jwk["kty"] == "RSA":
            public = rsa.RSAPublicNumbers(number(jwk["e"]), number(jwk["n"])).public_key()
            public.verify(signature, data, rsa_padding(algorithm), HASHES[algorithm[2:]])
        elif jwk["kty"] == "OKP":
            ed25519.Ed25519PublicKey.from_public_bytes(decode(jwk["x"])).verify(signature, data)
        else:
            numbers = ec.EllipticCurvePublicNumbers(number(jwk["x"]), number(jwk["y"]), NAMES[jwk["crv"]])
            half = len(signature) // 2
            r, s = (int.from_bytes(part, "big") for part in (signature[:half], signature[half:]))
            der = utils.encode_dss_signature(r, s)
            numbers.public_key().verify(der, data, ec.ECDSA(HASHES[algorithm[2:]]))
    except InvalidSignature:
        return False
    return True


if sys.argv[1] == "sign":
    sign(*sys.argv[2:])
else:
    sys.exit(0 if check(*sys.argv[2:]) else 1)
