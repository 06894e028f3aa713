//! What a full check costs beyond the bare primitive's verify of the same bytes, measured in the same run.
//!
//! `cargo bench -p vorsel-core` prints a table of ratios. Bare and full runs alternate in short batches, so that a busy
//! machine slows both; the ratio is the median over all pairs of batches. Allocations are counted, not timed.

use std::hint::black_box;
use std::time::{Duration, Instant};

use aws_lc_rs::hmac;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, ECDSA_P521_SHA512_FIXED, ED25519, ParsedPublicKey,
    RSA_PKCS1_2048_8192_SHA256, RSA_PKCS1_2048_8192_SHA384, RSA_PKCS1_2048_8192_SHA512, RSA_PSS_2048_8192_SHA256,
    RSA_PSS_2048_8192_SHA384, RSA_PSS_2048_8192_SHA512, RsaParameters, RsaPublicKeyComponents, UnparsedPublicKey,
    VerificationAlgorithm,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use vorsel_core::{
    AccessDraft, Algorithm, Expectations, Issuer, KeySet, Lifetime, Scopes, SigningKey, Timestamp, Verifier, base64url,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const PAIRS: usize = 200;
const BATCH: Duration = Duration::from_millis(2);

#[derive(Serialize, Deserialize)]
struct Staff {
    training: u8,
    shift: String,
    confirmed: bool,
}

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

fn main() {
    println!("{:<8}{:>12}{:>12}{:>9}{:>9}{:>14}", "", "bare ns", "full ns", "ratio", "+ ns", "allocations");
    for algorithm in Algorithm::ALL {
        let key = SigningKey::generate(algorithm).expect("a key");
        let bare = Bare::of(&key);
        let expectations = Expectations::access(ISSUER, AUDIENCE);
        let verifier = Verifier::new(KeySet::new([key.verifying_key()]), expectations);
        let draft = AccessDraft::new("obs-0017", AUDIENCE, "desk", Lifetime::minutes(5))
            .roles(["observer"])
            .scopes(Scopes::parse("exposures:read exposures:queue").expect("scopes"))
            .session("m3QF1n9mXk2hZ8cUo4r5sA", NOW)
            .own(Staff { training: 2, shift: "night".to_owned(), confirmed: true });
        let token = Issuer::new(ISSUER, key).access(&draft, "41lfCSBRw0OIP93aaoIujg", NOW).expect("a token");
        let (input, signature) = token.rsplit_once('.').expect("a token");
        let signature = base64url::decode(signature).expect("base64url");
        let bare = || assert!(black_box(&bare).verify(black_box(input.as_bytes()), black_box(&signature)));
        let full = || drop(black_box(verifier.check::<Staff>(black_box(&token), NOW).expect("accepted")));
        let allocations = allocation_counter::measure(full).count_total;
        let (bare, full, ratio) = compare(&bare, &full);
        println!("{:<8}{bare:>12.0}{full:>12.0}{ratio:>9.3}{:>9.0}{allocations:>14}", algorithm.name(), full - bare);
    }
}
