//! The worst that a stranger can send, against something harmless of the same size and kind: the ratio of processor time.
//! `cargo bench -p vorsel --bench hostile` prints the table.

use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use axum::Router;
use axum::body::Body;
use http::Request;
use tower::ServiceExt;
use vorsel::endpoints::{Endpoint, Endpoints, PasswordSignIn};
use vorsel::store::MemoryStore;
use vorsel::testing::TestIssuer;
use vorsel::{
    AccessPlan, Admission, AdmissionError, Algorithm, Client, ClientSecret, Clients, Expectations, Grant, IssuerKeys,
    KeySet, LiveRevocations, NoOwn, Scopes, Sessions, SigningKey, Timestamp, Verifier, base64url,
};

const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const TOKEN: usize = 16 * 1024;
const FORM: usize = 32 * 1024;
const BATCH: Duration = Duration::from_millis(5);
const PAIRS: usize = 40;

struct Nobody;

#[async_trait]
impl Admission<NoOwn> for Nobody {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Err(AdmissionError::Denied { reason: "nobody".to_owned() })
    }
}

/// As many of these pieces, each with a number of its own, as fit into `size` bytes.
fn filled(size: usize, piece: impl Fn(usize) -> String, between: &str) -> String {
    let mut text = String::new();
    for number in 0.. {
        let piece = piece(number);
        if text.len() + piece.len() + between.len() > size {
            return text;
        }
        if number > 0 {
            text.push_str(between);
        }
        text.push_str(&piece);
    }
    text
}

fn token(header: &str) -> String {
    format!("{}.e30.AAAA", base64url::encode(header))
}

fn time(work: &mut dyn FnMut()) -> f64 {
    let (start, mut count) = (Instant::now(), 0_u32);
    while start.elapsed() < BATCH {
        work();
        count += 1;
    }
    start.elapsed().as_secs_f64() * 1e6 / f64::from(count)
}

fn compare(name: &str, harmless: &mut dyn FnMut(), hostile: &mut dyn FnMut()) {
    let mut pairs: Vec<(f64, f64)> = (0..PAIRS).map(|_| (time(harmless), time(hostile))).collect();
    pairs.sort_by(|one, other| (one.1 / one.0).total_cmp(&(other.1 / other.0)));
    let (harmless, hostile) = pairs[PAIRS / 2];
    println!("{name:<52}{harmless:>9.1} µs{hostile:>9.1} µs{:>8.2}", hostile / harmless);
}

async fn router() -> Router {
    let keys = IssuerKeys::generate().expect("keys");
    let store = Arc::new(MemoryStore::new());
    let archive = Client::with_secret("archive", ClientSecret::generate().expect("a secret").hash()).may_follow();
    let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
        .keys(keys)
        .store(store.clone())
        .revocations(LiveRevocations::follow(store).await.expect("a view"))
        .clients(Clients::new([archive, Client::public("desk")]).expect("clients"))
        .admission(Arc::new(Nobody))
        .build()
        .expect("sessions");
    let endpoints = Endpoints::new(Arc::new(sessions), "https://id.skarnhill.test")
        .sign_in(PasswordSignIn::new(async |_| Ok(None)).client("desk"))
        .danger_without_throttle()
        .with(Endpoint::Feed);
    endpoints.routes().expect("endpoints").into_unguarded_router()
}

fn main() {
    println!("{:<52}{:>12}{:>12}{:>8}", "hostile against harmless (budget 10)", "harmless", "hostile", "ratio");
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let verifier =
        Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("https://id.skarnhill.test", "api"));
    let check = |token: &str| drop(black_box(verifier.check(token, NOW)));
    let room = TOKEN * 3 / 4 - 100;
    let long = token(&format!("{{\"alg\":\"EdDSA\",\"kid\":\"hill\",\"x\":\"{}\"}}", "x".repeat(room - 60)));
    for (name, header) in [
        (
            "header of many members",
            format!("{{{},\"alg\":\"EdDSA\"}}", filled(room, |number| format!("\"{number:x}\":0"), ",")),
        ),
        (
            "header of one deep member",
            format!(
                "{{\"alg\":\"EdDSA\",\"x\":{}{}{}}}",
                "[".repeat(120),
                filled(room - 400, |_| "1".to_owned(), ","),
                "]".repeat(120)
            ),
        ),
        (
            "header with a long crit",
            format!("{{\"alg\":\"EdDSA\",\"crit\":[{}]}}", filled(room, |_| "\"alg\"".to_owned(), ",")),
        ),
        ("header with escapes", format!("{{\"alg\":\"EdDSA\",\"x\":\"{}\"}}", "\\u0041".repeat(room / 6 - 10))),
    ] {
        let hostile = token(&header);
        assert!(hostile.len() <= TOKEN, "{name}: {}", hostile.len());
        compare(name, &mut || check(&long), &mut || check(&hostile));
    }
    let scopes = |text: &str| drop(black_box(Scopes::parse(text)));
    let (one, many) = ("x".repeat(FORM), filled(FORM, |number| format!("{number:x}"), " "));
    compare("scopes, many instead of one", &mut || scopes(&one), &mut || scopes(&many));

    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let router = runtime.block_on(router());
    let send = |path: &str, media_type: &str, body: &str| {
        let request = Request::post(path).header("content-type", media_type);
        let request = request.body(Body::from(body.to_owned())).expect("a request");
        runtime.block_on(async { drop(router.clone().oneshot(request).await) });
    };
    let post_to = |path: &str, form: &str| send(path, "application/x-www-form-urlencoded", form);
    let post = |form: &str| post_to("/oauth/token", form);
    // Who polls is looked at once the poll is read.
    let poll = |body: &str| send("/oauth/feed", "application/json", body);
    let begin = "grant_type=refresh_token&client_id=desk&refresh_token=";
    let plain = format!("{begin}{}", "x".repeat(FORM - begin.len() - 10));
    for (name, form) in [
        ("form of many parameters", filled(FORM - 10, |number| format!("{number:x}=1"), "&")),
        ("form of many empty parameters", filled(FORM - 10, |number| format!("{number:x}"), "&")),
        (
            "form with many scopes",
            format!("{begin}a.b.c&scope={}", filled(FORM - 200, |number| format!("{number:x}"), "+")),
        ),
        ("form of percent signs", format!("{begin}{}", "%41".repeat(FORM / 3 - 40))),
    ] {
        compare(name, &mut || post(&plain), &mut || post(&form));
    }
    // Whose it is has to be known before its signature is checked: for a guard of several issuers, a sign-out, and an assertion.
    let claims =
        |claims: String| format!("{}.{}.AAAA", base64url::encode("{\"alg\":\"EdDSA\"}"), base64url::encode(claims));
    let room = TOKEN * 3 / 4 - 200;
    let plain = claims(format!("{{\"sub\":\"x\",\"a\":\"{}\"}}", "x".repeat(room)));
    let lab = Expectations::access("https://id.lab.skarnhill.test", "api");
    let lab = Verifier::new(KeySet::new([key.verifying_key()]), lab);
    let several = TestIssuer::new()
        .guard::<NoOwn>(AccessPlan::builder().need("GET", "/dome", "signed-in").build().expect("a plan"));
    let several = several.also(lab).build().expect("a guard");
    let named = |token: &str| {
        let request = Request::get("/dome").header("authorization", format!("Bearer {token}"));
        drop(black_box(several.decide(&request.body(()).expect("a request").into_parts().0, NOW).at_once()));
    };
    let signed_out = |token: &str| post_to("/oauth/revoke", &format!("client_id=desk&token={token}"));
    let asserted = |token: &str| {
        let kind = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";
        post_to(
            "/oauth/token",
            &format!("grant_type=client_credentials&client_assertion_type={kind}&client_assertion={token}"),
        );
    };
    for (name, hostile) in [
        (
            "claims of as many members as may be",
            format!("{{{}}}", (0..1_020).map(|number| format!("\"{number:x}\":0")).collect::<Vec<_>>().join(",")),
        ),
        ("claims of many members", format!("{{{}}}", filled(room, |number| format!("\"{number:x}\":0"), ","))),
        ("claims of one long list", format!("{{\"x\":[{}]}}", filled(room, |_| "0".to_owned(), ","))),
        ("claims of escapes", format!("{{\"x\":\"{}\"}}", "\\u0041".repeat(room / 6))),
    ] {
        let hostile = claims(hostile);
        compare(&format!("{name}, several issuers"), &mut || named(&plain), &mut || named(&hostile));
        compare(&format!("{name}, sign-out"), &mut || signed_out(&plain), &mut || signed_out(&hostile));
        compare(&format!("{name}, assertion"), &mut || asserted(&plain), &mut || asserted(&hostile));
    }
    let sign_in = |body: &str| send("/oauth/sign-in", "application/json", body);
    let begin = "\"subject\":\"obs-0017\"";
    let texts = |count| (0..count).map(|number| format!("\"{number:x}\":\"x\"")).collect::<Vec<_>>().join(",");
    let plain = format!("{{{begin},\"x\":\"{}\"}}", "x".repeat(FORM - 200));
    for (name, member) in [
        ("sign-in of as many members as may be", texts(60)),
        ("sign-in of many members", filled(FORM - 200, |number| format!("\"{number:x}\":\"x\""), ",")),
        ("sign-in of one long list", format!("\"x\":[{}]", filled(FORM - 200, |_| "0".to_owned(), ","))),
        ("sign-in of escapes", format!("\"x\":\"{}\"", "\\u0041".repeat(FORM / 6 - 40))),
    ] {
        compare(name, &mut || sign_in(&plain), &mut || sign_in(&format!("{{{begin},{member}}}")));
    }
    let begin = "\"client_id\":\"archive\",\"client_secret\":\"guess\"";
    let room = FORM - 200;
    let plain = format!("{{{begin},\"ack\":[\"{}\"]}}", "x".repeat(room));
    for (name, member) in [
        ("poll of as many acks as may be", format!("\"ack\":[{}]", vec!["\"\""; 500].join(","))),
        (
            "poll of as many errors as may be",
            format!(
                "\"setErrs\":{{{}}}",
                (0..250).map(|number| format!("\"{number:x}\":{{\"err\":\"\"}}")).collect::<Vec<_>>().join(",")
            ),
        ),
        ("poll of many acks", format!("\"ack\":[{}]", filled(room, |_| "\"\"".to_owned(), ","))),
        (
            "poll of many errors",
            format!("\"setErrs\":{{{}}}", filled(room, |number| format!("\"{number:x}\":{{\"err\":\"\"}}"), ",")),
        ),
        ("poll of many members", filled(room, |number| format!("\"{number:x}\":0"), ",")),
        (
            "poll of one long error",
            format!(
                "\"setErrs\":{{\"x\":{{\"err\":\"\",{}}}}}",
                filled(room, |number| format!("\"{number:x}\":0"), ",")
            ),
        ),
        ("poll of one long list", format!("\"x\":[{}]", filled(room, |_| "0".to_owned(), ","))),
        ("poll of objects in one member", format!("\"x\":[{}]", filled(room, |_| "{\"\":0}".to_owned(), ","))),
        ("poll of escapes", format!("\"ack\":[\"{}\"]", "\\u0041".repeat(room / 6))),
        ("poll of one deep member", format!("\"x\":{}{}", "[".repeat(120), "]".repeat(120))),
    ] {
        compare(name, &mut || poll(&plain), &mut || poll(&format!("{{{begin},{member}}}")));
    }

    let issuer = TestIssuer::new();
    let plan =
        AccessPlan::builder().role("operator", &[]).need("GET", "/dome", "role operator").build().expect("a plan");
    let guard = issuer.guard::<NoOwn>(plan).cookie("night").build().expect("a guard");
    let ask = |name: &str, value: &str| {
        let request = Request::get("/dome").header(name, value).body(()).expect("a request").into_parts().0;
        drop(black_box(guard.decide(&request, NOW).at_once()));
    };
    let bearer = format!("Bearer {}", "x".repeat(TOKEN));
    compare("Authorization of dots", &mut || ask("authorization", &bearer), &mut || {
        ask("authorization", &format!("Bearer {}", ".".repeat(TOKEN)));
    });
    let one = format!("other={}", "x".repeat(TOKEN));
    let many = filled(TOKEN, |number| format!("{number:x}=1"), "; ");
    compare("cookies, many instead of one", &mut || ask("cookie", &one), &mut || ask("cookie", &many));

    let read = |text: &str| drop(black_box(AccessPlan::read(text, "access.toml")));
    let routes = |rule: &dyn Fn(usize) -> String| {
        filled(
            FORM,
            |number| format!("[[routes]]\nmethod = \"GET\"\npath = \"/p{number}\"\nneed = \"{}\"\n", rule(number)),
            "",
        )
    };
    let roles = "[roles]\nobserver = []\n";
    let harmless = format!("{roles}{}", routes(&|number| format!("role observer and scope s{number}")));
    for (name, text) in [
        (
            "plan text with a misspelt role in each rule",
            format!("{roles}{}", routes(&|number| format!("role observers{number} or role x"))),
        ),
        (
            "plan text of many unknown roles",
            format!("[roles]\n{}", filled(FORM, |number| format!("r{number} = [\"q{number}\"]\n"), "")),
        ),
        (
            "plan text of one deep rule",
            format!(
                "{roles}[[routes]]\nmethod = \"GET\"\npath = \"/\"\nneed = \"{}role observer{}\"\n",
                "(".repeat(48),
                ")".repeat(48)
            ),
        ),
        ("plan text of policies that name others twice", {
            let policy = |number: usize| {
                format!(
                    "p{number} = \"policy p{} and scope a{number} or policy p{} and scope b{number}\"\n",
                    number + 1,
                    number + 1
                )
            };
            let policies = filled(FORM / 2, policy, "");
            let last = policies.lines().count();
            format!(
                "{roles}[policies]\n{policies}p{last} = \"role observer\"\n[[routes]]\nmethod = \"GET\"\npath = \"/\"\nneed = \"policy p0\"\n"
            )
        }),
    ] {
        compare(name, &mut || read(&harmless), &mut || read(&text));
    }
}
