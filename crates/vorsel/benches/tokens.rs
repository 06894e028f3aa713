//! What checking and issuing cost beyond the bare primitive's work on the same bytes, measured in the same run.
//!
//! `cargo bench -p vorsel` prints a table of ratios, and with `benches/allocations` one of allocations. Bare and full runs
//! alternate in short batches, so that a busy machine slows both; the ratio is the median over all pairs of batches.

use std::hint::black_box;
use std::time::{Duration, Instant};

use aws_lc_rs::hmac;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P256_SHA256_FIXED_SIGNING, ECDSA_P384_SHA384_FIXED, ECDSA_P384_SHA384_FIXED_SIGNING,
    ECDSA_P521_SHA512_FIXED, ECDSA_P521_SHA512_FIXED_SIGNING, ED25519, EcdsaKeyPair, Ed25519KeyPair, ParsedPublicKey,
    RSA_PKCS1_2048_8192_SHA256, RSA_PKCS1_2048_8192_SHA384, RSA_PKCS1_2048_8192_SHA512, RSA_PKCS1_SHA256,
    RSA_PKCS1_SHA384, RSA_PKCS1_SHA512, RSA_PSS_2048_8192_SHA256, RSA_PSS_2048_8192_SHA384, RSA_PSS_2048_8192_SHA512,
    RSA_PSS_SHA256, RSA_PSS_SHA384, RSA_PSS_SHA512, RsaEncoding, RsaKeyPair, RsaParameters, RsaPublicKeyComponents,
    UnparsedPublicKey, VerificationAlgorithm,
};
use serde_json::Value;
use vorsel::{Algorithm, SigningKey, base64url};

mod common;
use common::Case;

const PAIRS: usize = 200;
const BATCH: Duration = Duration::from_millis(2);

/// The primitive alone, with its key parsed once.
enum Bare {
    Hmac(Box<hmac::Key>),
    Public(ParsedPublicKey),
}

impl Bare {
    fn of(key: &SigningKey) -> Self {
        let private = key.to_private_jwk().expect("a JWK");
        let jwk: Value = serde_json::from_str(&private).expect("JSON");
        let bytes = |member: &str| base64url::decode(jwk[member].as_str().expect("text")).expect("base64url");
        let rsa = |parameters: &'static RsaParameters| {
            let components = RsaPublicKeyComponents { n: bytes("n"), e: bytes("e") };
            Self::Public(components.to_parsed_public_key(parameters).expect("a key"))
        };
        let point = |algorithm: &'static dyn VerificationAlgorithm, bytes: Vec<u8>| {
            Self::Public(UnparsedPublicKey::new(algorithm, bytes).parse().expect("a key"))
        };
        let uncompressed = || [vec![4], bytes("x"), bytes("y")].concat();
        match key.algorithm() {
            Algorithm::Hs256 => Self::Hmac(Box::new(hmac::Key::new(hmac::HMAC_SHA256, &bytes("k")))),
            Algorithm::Hs384 => Self::Hmac(Box::new(hmac::Key::new(hmac::HMAC_SHA384, &bytes("k")))),
            Algorithm::Hs512 => Self::Hmac(Box::new(hmac::Key::new(hmac::HMAC_SHA512, &bytes("k")))),
            Algorithm::Rs256 => rsa(&RSA_PKCS1_2048_8192_SHA256),
            Algorithm::Rs384 => rsa(&RSA_PKCS1_2048_8192_SHA384),
            Algorithm::Rs512 => rsa(&RSA_PKCS1_2048_8192_SHA512),
            Algorithm::Ps256 => rsa(&RSA_PSS_2048_8192_SHA256),
            Algorithm::Ps384 => rsa(&RSA_PSS_2048_8192_SHA384),
            Algorithm::Ps512 => rsa(&RSA_PSS_2048_8192_SHA512),
            Algorithm::Es256 => point(&ECDSA_P256_SHA256_FIXED, uncompressed()),
            Algorithm::Es384 => point(&ECDSA_P384_SHA384_FIXED, uncompressed()),
            Algorithm::Es512 => point(&ECDSA_P521_SHA512_FIXED, uncompressed()),
            _ => point(&ED25519, bytes("x")),
        }
    }

    fn verify(&self, input: &[u8], signature: &[u8]) -> bool {
        match self {
            Self::Hmac(key) => hmac::verify(key, input, signature).is_ok(),
            Self::Public(key) => key.verify_sig(input, signature).is_ok(),
        }
    }
}

/// The primitive alone, as it signs.
enum BareSigner {
    Hmac(Box<hmac::Key>),
    Ecdsa(EcdsaKeyPair),
    Rsa(RsaKeyPair, &'static dyn RsaEncoding),
    Ed25519(Ed25519KeyPair),
}

impl BareSigner {
    /// One with a new key: what the key is makes no difference.
    fn of(key: &SigningKey) -> Self {
        let hmac = |algorithm, bytes: usize| Self::Hmac(Box::new(hmac::Key::new(algorithm, &vec![7; bytes])));
        let ecdsa = |signing| Self::Ecdsa(EcdsaKeyPair::generate(signing).expect("a key"));
        let rsa = |encoding: &'static dyn RsaEncoding| {
            Self::Rsa(RsaKeyPair::generate(KeySize::Rsa2048).expect("a key"), encoding)
        };
        match key.algorithm() {
            Algorithm::Hs256 => hmac(hmac::HMAC_SHA256, 32),
            Algorithm::Hs384 => hmac(hmac::HMAC_SHA384, 48),
            Algorithm::Hs512 => hmac(hmac::HMAC_SHA512, 64),
            Algorithm::Rs256 => rsa(&RSA_PKCS1_SHA256),
            Algorithm::Rs384 => rsa(&RSA_PKCS1_SHA384),
            Algorithm::Rs512 => rsa(&RSA_PKCS1_SHA512),
            Algorithm::Ps256 => rsa(&RSA_PSS_SHA256),
            Algorithm::Ps384 => rsa(&RSA_PSS_SHA384),
            Algorithm::Ps512 => rsa(&RSA_PSS_SHA512),
            Algorithm::Es256 => ecdsa(&ECDSA_P256_SHA256_FIXED_SIGNING),
            Algorithm::Es384 => ecdsa(&ECDSA_P384_SHA384_FIXED_SIGNING),
            Algorithm::Es512 => ecdsa(&ECDSA_P521_SHA512_FIXED_SIGNING),
            _ => Self::Ed25519(Ed25519KeyPair::generate().expect("a key")),
        }
    }

    fn sign(&self, input: &[u8]) {
        match self {
            Self::Hmac(key) => drop(black_box(hmac::sign(key, input))),
            Self::Ecdsa(pair) => drop(black_box(pair.sign(&SystemRandom::new(), input).expect("a signature"))),
            Self::Ed25519(pair) => drop(black_box(pair.sign(input))),
            Self::Rsa(pair, encoding) => {
                let mut signature = [0; 256];
                pair.sign(*encoding, &SystemRandom::new(), input, &mut signature).expect("a signature");
                black_box(signature);
            }
        }
    }
}

/// Nanoseconds of one call, over a batch.
fn time(run: &dyn Fn(), calls: u32) -> f64 {
    let start = Instant::now();
    (0..calls).for_each(|_| run());
    start.elapsed().as_secs_f64() * 1e9 / f64::from(calls)
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// The medians of both, and the median of their ratios.
fn compare(bare: &dyn Fn(), full: &dyn Fn()) -> (f64, f64, f64) {
    let warm = time(bare, 20).max(1.0);
    let calls = ((BATCH.as_secs_f64() * 1e9 / warm) as u32).clamp(4, 20_000);
    let (mut bares, mut fulls, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for pair in 0..PAIRS {
        // Whoever goes second finds warmer caches, so they take turns.
        let (first, second) = if pair % 2 == 0 {
            let first = time(bare, calls);
            (first, time(full, calls))
        } else {
            let second = time(full, calls);
            (time(bare, calls), second)
        };
        bares.push(first);
        fulls.push(second);
        ratios.push(second / first);
    }
    (median(&mut bares), median(&mut fulls), median(&mut ratios))
}

/// One line of the table.
fn report(what: &str, algorithm: Algorithm, bare: &dyn Fn(), full: &dyn Fn(), budget: &str) {
    let (bare, full, ratio) = compare(bare, full);
    println!("{what:<12}{:<8}{bare:>12.0}{full:>12.0}{ratio:>9.3}{budget:>9}{:>10.0}", algorithm.name(), full - bare);
}

fn main() {
    println!("{:<12}{:<8}{:>12}{:>12}{:>9}{:>9}{:>10}", "", "", "bare ns", "ours ns", "ratio", "budget", "+ ns");
    for algorithm in Algorithm::ALL {
        let case = Case::of(algorithm);
        let verifier = Bare::of(&case.key);
        let (input, signature) = case.token.rsplit_once('.').expect("a token");
        let signature = base64url::decode(signature).expect("base64url");
        let bare = || assert!(black_box(&verifier).verify(black_box(input.as_bytes()), black_box(&signature)));
        let budget = match algorithm {
            Algorithm::EdDsa | Algorithm::Es256 => "1.06",
            Algorithm::Rs256 => "1.12",
            Algorithm::Hs256 => "1.7",
            _ => "",
        };
        report("check", algorithm, &bare, &|| case.check(), budget);
    }
    for algorithm in Algorithm::ALL {
        let case = Case::of(algorithm);
        let signer = BareSigner::of(&case.key);
        let (input, _) = case.token.rsplit_once('.').expect("a token");
        report("issue", algorithm, &|| signer.sign(black_box(input.as_bytes())), &|| case.issue(), "");
    }
    for algorithm in [Algorithm::Hs256, Algorithm::EdDsa] {
        let case = Case::of(algorithm);
        let verifier = Bare::of(&case.key);
        let (input, signature) = case.token.rsplit_once('.').expect("a token");
        let signature = base64url::decode(signature).expect("base64url");
        case.check_seen();
        let bare = || assert!(black_box(&verifier).verify(black_box(input.as_bytes()), black_box(&signature)));
        report("check seen", algorithm, &bare, &|| case.check_seen(), "1000 ns");
    }
}
