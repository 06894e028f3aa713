//! Tokens that are wrong in every known way, each with the finding it must give, and some that only look wrong.
//!
//! Each row goes through the fast path and the full list (in `codes`), which must agree.

use std::time::Duration;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use serde_json::{Value, json};
use vorsel_core::{Algorithm, Expectations, KeySet, SigningKey, Verifier, base64url};

mod common;
use common::{AUDIENCE, ISSUER, NOW, claims, codes, header, secret, signed, with, without};

const FINE: &[&str] = &[];
const MALFORMED: &[&str] = &["malformed"];
const ALGORITHM: &[&str] = &["algorithm-not-allowed"];
const SIGNATURE: &[&str] = &["signature-mismatch"];
const UNKNOWN_KEY: &[&str] = &["unknown-key"];
const WRONG_KIND: &[&str] = &["wrong-kind"];
const CRITICAL: &[&str] = &["critical-not-understood"];
const MISSING: &[&str] = &["missing-claim"];
const WRONG_AUDIENCE: &[&str] = &["wrong-audience"];
const WRONG_ISSUER: &[&str] = &["wrong-issuer"];
const EXPIRED: &[&str] = &["expired"];
const NOT_YET: &[&str] = &["not-yet-valid"];

/// What a row is about, the token, and the codes it must give.
type Row = (String, Vec<u8>, &'static [&'static str]);

/// A verifier with a key of each family: `hill` is the shared secret.
struct House {
    ridge: SigningKey,
    dale: SigningKey,
    tarn: SigningKey,
}

impl House {
    fn new() -> Self {
        let key = |algorithm, kid: &str| SigningKey::generate(algorithm).expect("a key").named(kid);
        Self {
            ridge: key(Algorithm::Es256, "ridge"),
            dale: key(Algorithm::Rs256, "dale"),
            tarn: key(Algorithm::EdDsa, "tarn"),
        }
    }

    fn public(&self) -> [&SigningKey; 3] {
        [&self.ridge, &self.dale, &self.tarn]
    }

    fn verifier(&self) -> Verifier {
        let keys = [&secret()].into_iter().chain(self.public()).map(SigningKey::verifying_key).collect::<Vec<_>>();
        let expectations = Expectations::access(ISSUER, AUDIENCE).skew(Duration::ZERO).expect("no skew");
        Verifier::new(KeySet::new(keys), expectations)
    }
}

fn row(what: impl Into<String>, token: impl Into<Vec<u8>>, codes: &'static [&'static str]) -> Row {
    (what.into(), token.into(), codes)
}

/// Good claims under a header of the attacker's, signed with the secret.
fn headed(header: impl AsRef<[u8]>) -> String {
    signed(header, claims().to_string())
}

/// Claims of the attacker's under a good header, signed with the secret: what a careless issuer might sign.
fn claiming(claims: impl AsRef<[u8]>) -> String {
    signed(header().to_string(), claims)
}

/// The same with no signature, or another one.
fn with_signature(token: &str, signature: impl AsRef<[u8]>) -> String {
    let (rest, _) = token.rsplit_once('.').expect("a token");
    format!("{rest}.{}", base64url::encode(signature))
}

fn no_algorithm() -> Vec<Row> {
    let spellings = ["none", "None", "NONE", "nOnE", "none ", " none", "no\tne", "null", "", "0", "nonе", "none\u{0}"];
    let mut rows = Vec::new();
    for spelling in spellings {
        let token = headed(with(header(), "alg", json!(spelling)));
        rows.push(row(format!("alg {spelling:?} without a signature"), with_signature(&token, ""), ALGORITHM));
        rows.push(row(format!("alg {spelling:?} with one"), token, ALGORITHM));
    }
    for value in [Value::Null, json!(false), json!(0), json!(["HS256"]), json!({ "alg": "HS256" })] {
        rows.push(row(format!("alg {value}"), headed(with(header(), "alg", value)), MALFORMED));
    }
    rows.push(row("no alg", headed(without(header(), "alg")), MALFORMED));
    rows.push(row("Alg", headed(r#"{"Alg":"HS256","typ":"at+jwt"}"#), MALFORMED));
    rows
}

fn other_algorithms(house: &House) -> Vec<Row> {
    let mut rows = Vec::new();
    for name in Algorithm::ALL.map(Algorithm::name).into_iter().filter(|name| *name != "HS256") {
        let header = json!({ "alg": name, "typ": "at+jwt", "kid": "hill" }).to_string();
        rows.push(row(format!("the secret's token called {name}"), headed(header), ALGORITHM));
    }
    let odd =
        ["hs256", "Hs256", "HS-256", "HS256 ", "HS256,none", "SHA256", "HS1", "ES256K", "RSA-OAEP", "dir", "A128GCM"];
    for name in odd {
        rows.push(row(format!("alg {name:?}"), headed(with(header(), "alg", json!(name))), ALGORITHM));
    }
    // The classic: a public key, which everybody knows, taken for a shared secret, in each form it may be written in.
    for key in house.public() {
        let jwk = key.verifying_key().to_public_jwk().expect("a public key");
        let text = |member: &str| jwk.get(member).and_then(Value::as_str).unwrap_or_default().to_owned();
        let number = format!("{}{}", text("x"), text("n"));
        let raw = base64url::decode(&number).expect("base64url");
        let forms = [Value::Object(jwk.clone()).to_string().into_bytes(), number.into_bytes(), raw, Vec::new()];
        for (index, secret) in forms.into_iter().enumerate() {
            for (kid, codes) in [(Some(key.key_id()), ALGORITHM), (Some("hill"), SIGNATURE), (None, SIGNATURE)] {
                let mut header = json!({ "alg": "HS256", "typ": "at+jwt" });
                kid.inspect(|kid| header["kid"] = json!(kid));
                let input =
                    format!("{}.{}", base64url::encode(header.to_string()), base64url::encode(claims().to_string()));
                let mac = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, &secret);
                let token = format!("{input}.{}", base64url::encode(aws_lc_rs::hmac::sign(&mac, input.as_bytes())));
                rows.push(row(format!("{} as a secret, form {index}, kid {kid:?}", key.algorithm()), token, codes));
            }
        }
        // Signatures of zeros, which a careless primitive takes for good.
        let header = json!({ "alg": key.algorithm().name(), "typ": "at+jwt", "kid": key.key_id() }).to_string();
        for length in [0, 1, 32, 64, 256] {
            let token = with_signature(&headed(&header), vec![0; length]);
            rows.push(row(format!("{} with {length} zeros", key.algorithm()), token, SIGNATURE));
        }
    }
    rows
}

/// The signature holds by the attacker's own key, which comes with the token.
fn embedded_keys() -> Vec<Row> {
    let attacker = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).expect("a key");
    let (x, y) = attacker.public_key().as_ref()[1..].split_at(32);
    let jwk = json!({ "kty": "EC", "crv": "P-256", "x": base64url::encode(x), "y": base64url::encode(y) });
    let theirs = KeySet::read(&jwk.to_string()).expect("a key").keys()[0].key_id().to_owned();
    let mut rows = Vec::new();
    for (kid, codes) in [(Some("ridge"), SIGNATURE), (None, SIGNATURE), (Some(&*theirs), UNKNOWN_KEY)] {
        for member in ["jwk", "jku", "x5u", "x5c", "x5t#S256", "keys"] {
            let mut header = json!({ "alg": "ES256", "typ": "at+jwt" });
            header[member] = match member {
                "jwk" => jwk.clone(),
                "x5c" => json!(["AAAA"]),
                "keys" => json!([jwk]),
                _ => json!("https://elsewhere.test/keys"),
            };
            kid.inspect(|kid| header["kid"] = json!(kid));
            let (header, claims) = (header.to_string(), claims().to_string());
            let input = format!("{}.{}", base64url::encode(header), base64url::encode(claims));
            let signature = attacker.sign(&SystemRandom::new(), input.as_bytes()).expect("a signature");
            let token = format!("{input}.{}", base64url::encode(signature));
            rows.push(row(format!("{member} in the header, kid {kid:?}"), token, codes));
        }
    }
    let jwk = json!({ "kty": "oct", "k": "AAAA" });
    rows.push(row("an embedded key beside a good signature", headed(with(header(), "jwk", jwk)), FINE));
    rows
}

fn key_ids() -> Vec<Row> {
    let strangers = [
        "valley",
        "",
        " ",
        "HILL",
        "Hill",
        "hill ",
        " hill",
        "hill\u{0}",
        "hi\u{217c}\u{217c}",
        "../../hill",
        "/dev/null",
        "hill' or '1'='1",
        "$(hill)",
        "https://elsewhere.test/hill",
        "*",
        "%68ill",
        "0",
    ];
    let mut rows: Vec<_> = strangers
        .into_iter()
        .map(|kid| row(format!("kid {kid:?}"), headed(with(header(), "kid", json!(kid))), UNKNOWN_KEY))
        .collect();
    for kid in ["ridge", "dale", "tarn"] {
        rows.push(row(format!("kid of another: {kid}"), headed(with(header(), "kid", json!(kid))), ALGORITHM));
    }
    for value in [Value::Null, json!(0), json!(true), json!(["hill"]), json!({ "kid": "hill" })] {
        rows.push(row(format!("kid {value}"), headed(with(header(), "kid", value)), MALFORMED));
    }
    rows.push(row("a kid of 8,000 characters", headed(with(header(), "kid", json!("k".repeat(8_000)))), UNKNOWN_KEY));
    rows.push(row("no kid", headed(without(header(), "kid")), FINE));
    rows
}

fn header_games() -> Vec<Row> {
    let fixed: [(&str, &'static [&'static str]); 33] = [
        (r#"{"alg":"HS256","typ":"at+jwt","alg":"HS256"}"#, MALFORMED),
        (r#"{"alg":"none","alg":"HS256","typ":"at+jwt"}"#, MALFORMED),
        (r#"{"alg":"HS256","\u0061lg":"none","typ":"at+jwt"}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","kid":"hill","kid":"hill"}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"JWT","typ":"at+jwt"}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","zip":"DEF","zip":"DEF"}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","jwk":{"k":1,"k":2}}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt"}}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt"}{}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt",}"#, MALFORMED),
        (r#"{"alg":"HS256" "typ":"at+jwt"}"#, MALFORMED),
        (r#"{'alg':'HS256','typ':'at+jwt'}"#, MALFORMED),
        (r#"{alg:"HS256",typ:"at+jwt"}"#, MALFORMED),
        (r#"{"alg":"HS256",/**/"typ":"at+jwt"}"#, MALFORMED),
        (r#"["HS256","at+jwt"]"#, MALFORMED),
        (r#""HS256""#, MALFORMED),
        ("HS256", MALFORMED),
        ("null", MALFORMED),
        ("{", MALFORMED),
        ("{}", MALFORMED),
        ("", MALFORMED),
        ("\u{feff}{\"alg\":\"HS256\",\"typ\":\"at+jwt\"}", MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["exp"],"exp":1}"#, CRITICAL),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["b64"],"b64":false}"#, CRITICAL),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["alg"]}"#, CRITICAL),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["exp"]}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":[]}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":null}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":"exp","exp":1}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":[7]}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["alg","alg"],"crit":["alg"]}"#, MALFORMED),
        (r#"{"alg":"HS256","typ":"at+jwt","b64":false}"#, FINE),
        (" {\"typ\":\"at+jwt\",\n\"alg\":\"HS256\"}\t", FINE),
    ];
    let mut rows: Vec<_> = fixed.into_iter().map(|(text, codes)| row(text, headed(text), codes)).collect();
    for (typ, codes) in [
        (json!("JWT"), WRONG_KIND),
        (json!("refresh+jwt"), WRONG_KIND),
        (json!("at+jwt "), WRONG_KIND),
        (json!("at-jwt"), WRONG_KIND),
        (json!("jwt+at"), WRONG_KIND),
        (json!("text/at+jwt"), WRONG_KIND),
        (json!("application/"), WRONG_KIND),
        (json!(""), WRONG_KIND),
        (json!("application/AT+JWT"), FINE),
        (json!("At+Jwt"), FINE),
        (Value::Null, MALFORMED),
        (json!(["at+jwt"]), MALFORMED),
        (json!(1), MALFORMED),
    ] {
        rows.push(row(format!("typ {typ}"), headed(with(header(), "typ", typ)), codes));
    }
    rows.push(row("no typ", headed(without(header(), "typ")), WRONG_KIND));
    let utf16: Vec<u8> = header().to_string().encode_utf16().flat_map(u16::to_le_bytes).collect();
    rows.push(row("UTF-16", headed(utf16), MALFORMED));
    rows.push(row("not UTF-8", headed(b"{\"alg\":\"HS256\",\"typ\":\"at+jwt\",\"x\":\"\xff\"}"), MALFORMED));
    rows
}

fn segments() -> Vec<Row> {
    let token = claiming(claims().to_string());
    let (rest, signature) = token.rsplit_once('.').expect("a token");
    let (head, payload) = rest.split_once('.').expect("two segments");
    let loose = |text: &str| {
        const ALPHABET: &str = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
        let last = text.chars().last().expect("a character");
        let next = ALPHABET.chars().nth(ALPHABET.find(last).expect("base64url") + 1).expect("room for a loose bit");
        format!("{}{next}", &text[..text.len() - 1])
    };
    let of = |signature: &str| format!("{rest}.{signature}");
    vec![
        row("as it should be", token.clone(), FINE),
        row("an empty signature", of(""), SIGNATURE),
        row("half a signature", of(&signature[..20]), SIGNATURE),
        row("a signature and more", of(&format!("{signature}AAAA")), SIGNATURE),
        row("a signature twice", of(&signature.repeat(2)[..84]), SIGNATURE),
        row("a signature of zeros", of(&base64url::encode([0; 32])), SIGNATURE),
        row("padding on the signature", of(&format!("{signature}=")), MALFORMED),
        row("escaped padding", of(&format!("{signature}%3D")), MALFORMED),
        row("loose bits", of(&loose(signature)), MALFORMED),
        row("one character too few", of(&signature[..41]), MALFORMED),
        row("padding on the payload", format!("{head}.{payload}=.{signature}"), MALFORMED),
        row(
            "a line break in the payload",
            format!("{head}.{}\n{}.{signature}", &payload[..8], &payload[8..]),
            MALFORMED,
        ),
        row("the other base64 alphabet", of("+/+/"), MALFORMED),
        row("a dot behind", format!("{token}."), MALFORMED),
        row("a dot in front", format!(".{token}"), MALFORMED),
        row("two dots between", format!("{head}..{payload}.{signature}"), MALFORMED),
        row("no signature segment", rest, MALFORMED),
        row("one segment", head, MALFORMED),
        row("five segments", format!("{token}.AAAA.AAAA"), MALFORMED),
        row("only dots", "..", MALFORMED),
        row("nothing", "", MALFORMED),
        row("a space behind", format!("{token} "), MALFORMED),
        row("a carriage return behind", format!("{token}\r"), MALFORMED),
        row("a null byte behind", format!("{token}\0"), MALFORMED),
        row("a space in front", format!(" {token}"), MALFORMED),
        row("the scheme in front", format!("Bearer {token}"), MALFORMED),
        row("in quotes", format!("\"{token}\""), MALFORMED),
        row("two tokens", format!("{token},{token}"), MALFORMED),
        row("a byte order mark", format!("\u{feff}{token}"), MALFORMED),
        row("full-width letters", token.replace('e', "\u{ff45}"), MALFORMED),
        row("not UTF-8", b"\xff\xfe.\x00.".to_vec(), MALFORMED),
        row("the JSON serialization", json!({ "payload": payload, "signature": signature }).to_string(), MALFORMED),
        row(
            "a payload of the next token",
            format!("{head}.{}.{signature}", base64url::encode("{}")),
            &["signature-mismatch", "missing-claim", "wrong-issuer", "wrong-audience"],
        ),
    ]
}

fn claim_types() -> Vec<Row> {
    let others = [Value::Null, json!(true), json!(7), json!("7"), json!([7]), json!(["x"]), json!({ "x": 7 })];
    let fits = |name: &str, value: &Value| match name {
        "exp" | "nbf" | "iat" | "auth_time" | "session_at" => value.is_number(),
        "roles" => *value == json!(["x"]),
        "aud" => *value == json!(["x"]) || value.is_string(),
        "cnf" => value.is_object(),
        _ => value.is_string(),
    };
    let names = [
        "iss",
        "sub",
        "aud",
        "exp",
        "nbf",
        "iat",
        "jti",
        "client_id",
        "scope",
        "roles",
        "sid",
        "auth_time",
        "session_at",
        "acr",
        "cnf",
    ];
    let mut rows = Vec::new();
    for name in names {
        for value in others.iter().filter(|value| !fits(name, value)) {
            rows.push(row(format!("{name} {value}"), claiming(with(claims(), name, value.clone())), MALFORMED));
        }
    }
    for name in ["exp", "sub", "client_id", "iat", "jti"] {
        rows.push(row(format!("no {name}"), claiming(without(claims(), name)), MISSING));
    }
    let both: [(&str, &'static [&'static str]); 2] =
        [("iss", &["missing-claim", "wrong-issuer"]), ("aud", &["missing-claim", "wrong-audience"])];
    for (name, codes) in both {
        rows.push(row(format!("no {name}"), claiming(without(claims(), name)), codes));
    }
    for (name, value) in [
        ("aud", json!([null, AUDIENCE])),
        ("aud", json!([[AUDIENCE]])),
        ("roles", json!(["observer", 7])),
        ("scope", json!("a  b")),
        ("iss", json!("")),
        ("sub", json!("")),
        ("jti", json!("")),
        ("aud", json!("")),
        ("aud", json!(["", AUDIENCE])),
        ("scope", json!(" a")),
        ("scope", json!("a\tb")),
        ("scope", json!("dome:move\u{a0}logs:read")),
    ] {
        rows.push(row(format!("{name} {value}"), claiming(with(claims(), name, value)), MALFORMED));
    }
    rows
}

fn identities() -> Vec<Row> {
    let mut rows = Vec::new();
    for issuer in [
        "https://id.skarnhill.test/",
        "HTTPS://ID.SKARNHILL.TEST",
        "http://id.skarnhill.test",
        "id.skarnhill.test",
        "https://id.skarnhill.test.evil.test",
        " https://id.skarnhill.test",
        "https://id.skarnhil\u{217c}.test",
        "https://id.skarnhill.test\u{0}",
    ] {
        rows.push(row(format!("iss {issuer:?}"), claiming(with(claims(), "iss", json!(issuer))), WRONG_ISSUER));
    }
    for audience in [
        json!("https://lab.skarnhill.test"),
        json!("https://api.skarnhill.test/"),
        json!([]),
        json!("*"),
        json!("https://api.skarnhill.test.evil.test"),
        json!(["https://lab.skarnhill.test", "API"]),
        json!("https://lab.skarnhill.test https://api.skarnhill.test"),
    ] {
        rows.push(row(format!("aud {audience}"), claiming(with(claims(), "aud", audience)), WRONG_AUDIENCE));
    }
    let among = json!(["https://lab.skarnhill.test", AUDIENCE]);
    rows.push(row("one audience of two", claiming(with(claims(), "aud", among)), FINE));
    rows
}

fn claim_games() -> Vec<Row> {
    let text = claims().to_string();
    let many = |count: usize, more: &str| {
        let members: String = (0..count).map(|index| format!("\"c{index}\":{index},")).collect();
        text.replacen('{', &format!("{{{members}{more}"), 1)
    };
    vec![
        row("iss twice", claiming(text.replace("\"sub\"", "\"iss\"")), MALFORMED),
        row("exp twice", claiming(text.replacen('{', "{\"exp\":9999999999,", 1)), MALFORMED),
        row("exp twice, once escaped", claiming(text.replacen('{', "{\"\\u0065xp\":9999999999,", 1)), MALFORMED),
        row("an own claim twice", claiming(text.replacen('{', "{\"training\":9,", 1)), MALFORMED),
        row("twice inside", claiming(text.replacen('{', "{\"deep\":{\"a\":1,\"a\":2},", 1)), MALFORMED),
        row("twice among a hundred", claiming(many(100, "\"c7\":1,")), MALFORMED),
        row("a hundred claims", claiming(many(100, "")), FINE),
        row("Exp beside exp", claiming(text.replacen('{', "{\"Exp\":1,", 1)), FINE),
        row("a claim __proto__", claiming(text.replacen('{', "{\"__proto__\":{\"roles\":[\"director\"]},", 1)), FINE),
        row("something behind", claiming(format!("{text}x")), MALFORMED),
        row("a second object behind", claiming(format!("{text}{text}")), MALFORMED),
        row("a comma behind", claiming(format!("{},}}", &text[..text.len() - 1])), MALFORMED),
        row("a space behind", claiming(format!("{text} ")), FINE),
        row("a null byte behind", claiming(format!("{text}\0")), MALFORMED),
        row("a byte order mark", claiming(format!("\u{feff}{text}")), MALFORMED),
        row("not closed", claiming(&text[..text.len() - 1]), MALFORMED),
        row("in an array", claiming(format!("[{text}]")), MALFORMED),
        row("a text", claiming(json!(text).to_string()), MALFORMED),
        row("null", claiming("null"), MALFORMED),
        row("nothing", claiming(""), MALFORMED),
        row("NaN", claiming(text.replace("1700000100", "NaN")), MALFORMED),
        row("Infinity", claiming(text.replace("1700000100", "Infinity")), MALFORMED),
        row("a hexadecimal number", claiming(text.replace("1700000100", "0x7fffffff")), MALFORMED),
        row("a leading zero", claiming(text.replace("1700000100", "01700000100")), MALFORMED),
        row("a plus sign", claiming(text.replace("1700000100", "+1700000100")), MALFORMED),
        row("a lone surrogate", claiming(text.replace("obs-0017", "\\ud800")), MALFORMED),
        row("a line break in a string", claiming(text.replace("obs-0017", "obs\n0017")), MALFORMED),
        row("not UTF-8", claiming([&text.as_bytes()[..text.len() - 1], b",\"x\":\"\xc3\"}"].concat()), MALFORMED),
        row("UTF-16", claiming(text.encode_utf16().flat_map(u16::to_be_bytes).collect::<Vec<_>>()), MALFORMED),
        row("compressed", claiming(b"\x78\x9c\xab\x56\x4a\xad\x28\x50"), MALFORMED),
        row("escapes, all in order", claiming(text.replace("obs-0017", "\\u006fbs-\\u0030017")), FINE),
        row("a token within", claiming(claiming(&text)), MALFORMED),
    ]
}

fn time_edges() -> Vec<Row> {
    let now = 1_700_000_000_i64;
    let of =
        |name: &str, value: Value, codes| row(format!("{name} {value}"), claiming(with(claims(), name, value)), codes);
    vec![
        of("exp", json!(now), EXPIRED),
        of("exp", json!(now - 1), EXPIRED),
        of("exp", json!(1_699_999_999.999_9), EXPIRED),
        of("exp", json!(1_700_000_000.000_001), FINE),
        of("exp", json!(now + 1), FINE),
        of("exp", json!(0), EXPIRED),
        of("exp", json!(-1), EXPIRED),
        of("exp", json!(i64::MIN), EXPIRED),
        of("exp", json!(-1e300), EXPIRED),
        of("exp", json!(i64::MAX), FINE),
        of("exp", json!(u64::MAX), FINE),
        of("exp", json!(1e300), FINE),
        of("nbf", json!(now), FINE),
        of("nbf", json!(1_700_000_000.5), NOT_YET),
        of("nbf", json!(now + 1), NOT_YET),
        of("nbf", json!(u64::MAX), NOT_YET),
        of("nbf", json!(-1e300), FINE),
        of("iat", json!(now), FINE),
        of("iat", json!(1_700_000_000.25), NOT_YET),
        of("iat", json!(now + 1), NOT_YET),
        of("auth_time", json!(now + 1), NOT_YET),
        of("auth_time", json!(now * 1_000), NOT_YET),
        of("auth_time", json!(now), FINE),
        of("iat", json!(1e300), NOT_YET),
        row("exp beyond every number", claiming(claims().to_string().replace("1700000100", "1e999")), MALFORMED),
        row("milliseconds", claiming(with(claims(), "iat", json!(now * 1_000))), NOT_YET),
        row(
            "everything wrong at once",
            claiming(with(claims(), "aud", json!("x")).replace("1700000100", "1699999950").replace(ISSUER, "y")),
            &["wrong-issuer", "wrong-audience", "expired"],
        ),
    ]
}

fn bombs() -> Vec<Row> {
    let padded = |padding: usize| claiming(with(claims(), "pad", json!("x".repeat(padding))));
    let fits = (11_000..12_500).rev().find(|padding| padded(*padding).len() <= 16_384).expect("a size that fits");
    let nested = |open: &str, close: &str, levels: usize| {
        let value = format!("{}1{}", open.repeat(levels), close.repeat(levels));
        with(claims(), "deep", json!("nested")).replace("\"nested\"", &value)
    };
    vec![
        row("16 KiB", padded(fits), FINE),
        row("a little more", padded(fits + 3), MALFORMED),
        row("a million letters", "a".repeat(1_000_000), MALFORMED),
        row("a million dots", ".".repeat(1_000_000), MALFORMED),
        row("16,384 dots", ".".repeat(16_384), MALFORMED),
        row("20 arrays deep", claiming(nested("[", "]", 20)), FINE),
        row("20 objects deep", claiming(nested("{\"a\":", "}", 20)), FINE),
        row("200 arrays deep", claiming(nested("[", "]", 200)), MALFORMED),
        row("4,000 arrays deep", claiming(nested("[", "]", 4_000)), MALFORMED),
        row("1,500 objects deep", claiming(nested("{\"a\":", "}", 1_500)), MALFORMED),
        row("brackets that never close", claiming("[".repeat(10_000)), MALFORMED),
        row("a header 2,000 arrays deep", headed(format!("{{\"x\":{}", "[".repeat(2_000))), MALFORMED),
        row(
            "a number of 5,000 digits",
            claiming(claims().to_string().replace("1700000100", &"9".repeat(5_000))),
            MALFORMED,
        ),
        row("1,000 audiences", claiming(with(claims(), "aud", json!(vec!["x"; 1_000]))), WRONG_AUDIENCE),
        row(
            "crit with 1,000 names",
            headed(format!(
                "{{\"alg\":\"HS256\",\"typ\":\"at+jwt\",\"x\":1,\"crit\":[{}\"x\"]}}",
                "\"x\",".repeat(999)
            )),
            MALFORMED,
        ),
    ]
}

#[test]
fn every_hostile_token_gets_its_finding() {
    let house = House::new();
    let rows = [
        no_algorithm(),
        other_algorithms(&house),
        embedded_keys(),
        key_ids(),
        header_games(),
        segments(),
        claim_types(),
        identities(),
        claim_games(),
        time_edges(),
        bombs(),
    ]
    .concat();
    let hostile = rows.iter().filter(|(_, _, codes)| !codes.is_empty()).count();
    assert!(hostile >= 150, "{hostile} hostile tokens");
    let verifier = house.verifier();
    let wrong: Vec<_> = rows
        .iter()
        .map(|(what, token, expected)| (what, expected, codes(&verifier, token, NOW)))
        .filter(|(_, expected, found)| **expected != found.as_slice())
        .collect();
    assert!(wrong.is_empty(), "of {} rows: {wrong:#?}", rows.len());
}
