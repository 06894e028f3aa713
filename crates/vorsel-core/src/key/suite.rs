//! Which primitive, curve and size belong to which algorithm.

use aws_lc_rs::hmac;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P256_SHA256_FIXED_SIGNING, ECDSA_P384_SHA384_FIXED, ECDSA_P384_SHA384_FIXED_SIGNING,
    ECDSA_P521_SHA512_FIXED, ECDSA_P521_SHA512_FIXED_SIGNING, EcdsaSigningAlgorithm, EcdsaVerificationAlgorithm,
    RSA_PKCS1_2048_8192_SHA256, RSA_PKCS1_2048_8192_SHA384, RSA_PKCS1_2048_8192_SHA512, RSA_PKCS1_SHA256,
    RSA_PKCS1_SHA384, RSA_PKCS1_SHA512, RSA_PSS_2048_8192_SHA256, RSA_PSS_2048_8192_SHA384, RSA_PSS_2048_8192_SHA512,
    RSA_PSS_SHA256, RSA_PSS_SHA384, RSA_PSS_SHA512, RsaEncoding, RsaParameters,
};

use super::algorithm::Algorithm;

/// The HMAC of an algorithm, and the fewest bytes of its secret: as many as its hash has
/// ([RFC 7518 section 3.2](https://www.rfc-editor.org/rfc/rfc7518#section-3.2)).
pub(super) fn hmac_of(algorithm: Algorithm) -> Option<(hmac::Algorithm, usize)> {
    match algorithm {
        Algorithm::Hs256 => Some((hmac::HMAC_SHA256, 32)),
        Algorithm::Hs384 => Some((hmac::HMAC_SHA384, 48)),
        Algorithm::Hs512 => Some((hmac::HMAC_SHA512, 64)),
        _ => None,
    }
}

/// An elliptic curve of ECDSA, which fixes the algorithm
/// ([RFC 7518 section 3.4](https://www.rfc-editor.org/rfc/rfc7518#section-3.4)).
pub(super) struct Curve {
    pub(super) name: &'static str,
    pub(super) algorithm: Algorithm,
    /// Bytes of a coordinate and of the private scalar.
    pub(super) bytes: usize,
    /// The DER of a SubjectPublicKeyInfo before the uncompressed point. All of them have a fixed length, so what
    /// follows is the whole key and nothing can hide behind it.
    pub(super) spki: &'static [u8],
    pub(super) signing: &'static EcdsaSigningAlgorithm,
    pub(super) verifying: &'static EcdsaVerificationAlgorithm,
}

pub(super) static CURVES: [Curve; 3] = [
    Curve {
        name: "P-256",
        algorithm: Algorithm::Es256,
        bytes: 32,
        spki:
            b"\x30\x59\x30\x13\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x08\x2a\x86\x48\xce\x3d\x03\x01\x07\x03\x42\x00",
        signing: &ECDSA_P256_SHA256_FIXED_SIGNING,
        verifying: &ECDSA_P256_SHA256_FIXED,
    },
    Curve {
        name: "P-384",
        algorithm: Algorithm::Es384,
        bytes: 48,
        spki: b"\x30\x76\x30\x10\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x05\x2b\x81\x04\x00\x22\x03\x62\x00",
        signing: &ECDSA_P384_SHA384_FIXED_SIGNING,
        verifying: &ECDSA_P384_SHA384_FIXED,
    },
    Curve {
        name: "P-521",
        algorithm: Algorithm::Es512,
        bytes: 66,
        spki: b"\x30\x81\x9b\x30\x10\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x05\x2b\x81\x04\x00\x23\x03\x81\x86\x00",
        signing: &ECDSA_P521_SHA512_FIXED_SIGNING,
        verifying: &ECDSA_P521_SHA512_FIXED,
    },
];

/// The curve of an algorithm.
pub(super) fn curve_of(algorithm: Algorithm) -> Option<&'static Curve> {
    CURVES.iter().find(|curve| curve.algorithm == algorithm)
}

/// How an RSA key checks and signs under an algorithm.
pub(super) fn rsa_of(algorithm: Algorithm) -> Option<(&'static RsaParameters, &'static dyn RsaEncoding)> {
    Some(match algorithm {
        Algorithm::Rs256 => (&RSA_PKCS1_2048_8192_SHA256, &RSA_PKCS1_SHA256),
        Algorithm::Rs384 => (&RSA_PKCS1_2048_8192_SHA384, &RSA_PKCS1_SHA384),
        Algorithm::Rs512 => (&RSA_PKCS1_2048_8192_SHA512, &RSA_PKCS1_SHA512),
        Algorithm::Ps256 => (&RSA_PSS_2048_8192_SHA256, &RSA_PSS_SHA256),
        Algorithm::Ps384 => (&RSA_PSS_2048_8192_SHA384, &RSA_PSS_SHA384),
        Algorithm::Ps512 => (&RSA_PSS_2048_8192_SHA512, &RSA_PSS_SHA512),
        _ => return None,
    })
}

/// The sizes of an RSA modulus, in bits ([RFC 7518 section 3.3](https://www.rfc-editor.org/rfc/rfc7518#section-3.3)
/// asks for the lower one, the primitive has the upper one).
pub(super) const RSA_BITS: std::ops::RangeInclusive<usize> = 2048..=8192;
