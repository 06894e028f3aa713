//! What the log says of a refusal. Alone in its file, since a log line is caught for the whole process.

use http::{Request, Response};
use tower::{ServiceExt, service_fn};
use vorsel::rule::role;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Expectations, Guard, Issuer, KeySet, Lifetime, NoOwn, SigningKey, Verifier, now,
};

#[path = "common/lines.rs"]
mod lines;
use lines::Lines;

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";

/// A guard around a service that is not axum's.
async fn send(guard: &Guard<NoOwn>, path: &str, token: &str) -> u16 {
    let service =
        guard.clone().around(service_fn(async |_: Request<()>| Ok::<_, std::io::Error>(Response::new(String::new()))));
    let request =
        Request::builder().uri(path).header("authorization", format!("Bearer {token}")).header("x-request-id", "r-7");
    service.oneshot(request.body(()).expect("a request")).await.expect("an answer").status().as_u16()
}

#[tokio::test]
async fn the_log_names_the_check_in_one_line_and_never_the_token() {
    let lines = Lines::default();
    let _log = lines.collect();
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, AUDIENCE));
    let plan = AccessPlan::builder()
        .role("observer", &[])
        .role("director", &[])
        .need("GET", "/log", role("observer"))
        .need("GET", "/people", role("director"))
        .build()
        .expect("a plan");
    let guard = Guard::new(verifier, plan).expect("a guard");
    let issuer = Issuer::new(ISSUER, key);
    let token = |audience: &str| {
        let draft = AccessDraft::of("obs-0017")
            .audience(audience)
            .client("desk")
            .lasting(Lifetime::minutes(5))
            .roles(["observer"])
            .session("s1", now());
        issuer.access(&draft, "t1", now()).expect("a token")
    };
    assert_eq!(send(&guard, "/log", &token(AUDIENCE)).await, 200);
    assert_eq!(send(&guard, "/log", &token("https://lab.skarnhill.test\n\u{1b}[2J")).await, 401);
    assert_eq!(send(&guard, "/people", &token(AUDIENCE)).await, 403);
    assert_eq!(send(&guard, "/forgotten", &token(AUDIENCE)).await, 403);
    let text = lines.text();
    let expected = [
        " INFO vorsel::guard: wrong-audience: expected \"https://api.skarnhill.test\", but found \
         \"https://lab.skarnhill.test\\n\\u{1b}[2J\" (RFC 7519 section 4.1.3) \
         code=\"wrong-audience\" status=401 method=\"GET\" path=\"/log\" route=\"/log\" request_id=\"r-7\"",
        " INFO vorsel::guard: rule-not-met: role director; missing role director (has \"observer\") \
         code=\"rule-not-met\" status=403 method=\"GET\" path=\"/people\" \
         route=\"/people\" subject=\"obs-0017\" session=\"s1\" client=\"desk\" request_id=\"r-7\"",
        "ERROR vorsel::guard: no-rule: the access plan says nothing about this method and path \
         code=\"no-rule\" status=403 method=\"GET\" path=\"/forgotten\" \
         subject=\"obs-0017\" session=\"s1\" client=\"desk\" request_id=\"r-7\"",
    ];
    assert_eq!(text.lines().collect::<Vec<_>>(), expected);
}
