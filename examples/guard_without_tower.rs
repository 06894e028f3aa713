//! Guards a server that knows neither tower nor async: the guard is a function of the request.
//!
//! `cargo run -p vorsel-examples --example guard_without_tower`

use std::error::Error;
use std::thread;

use http::request::Parts;
use tiny_http::{Header, Response, Server};
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Answer, Expectations, Guard, Issuer, KeySet, Lifetime, NoOwn, SigningKey,
    Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";

/// What the guard looks at: method, path and headers.
fn parts(request: &tiny_http::Request) -> Result<Parts, http::Error> {
    let mut parts = http::Request::builder().method(request.method().as_str()).uri(request.url());
    for header in request.headers() {
        parts = parts.header(header.field.as_str().as_str(), header.value.as_str());
    }
    Ok(parts.body(())?.into_parts().0)
}

fn stopped(answer: Answer) -> Response<std::io::Cursor<Vec<u8>>> {
    let mut response = Response::from_string(answer.problem.unwrap_or_default()).with_status_code(answer.status);
    let headers = [
        ("Content-Type", Some("application/problem+json".to_owned())),
        ("Cache-Control", Some("no-store".to_owned())),
        ("WWW-Authenticate", answer.challenges.first().map(ToString::to_string)),
        ("Allow", answer.allow),
    ];
    for (name, value) in headers.into_iter().filter_map(|(name, value)| Some((name, value?))) {
        if let Ok(header) = Header::from_bytes(name, value) {
            response.add_header(header);
        }
    }
    response
}

fn serve(server: &Server, guard: &Guard<NoOwn>) {
    for request in server.incoming_requests() {
        let response = match parts(&request) {
            // Waiting for the decision also serves guards that look API keys up or ask the app's own predicates.
            Ok(parts) => match pollster::block_on(guard.decide(&parts, guard.now())) {
                Ok(caller) => {
                    let subject = caller.map_or("nobody".to_owned(), |caller| caller.subject().to_owned());
                    Response::from_string(format!("good evening, {subject}"))
                }
                Err(stop) => stopped(stop.answer(guard.realm())),
            },
            Err(_) => Response::from_string("").with_status_code(400),
        };
        let _ = request.respond(response);
    }
}

fn main() -> Result<(), Box<dyn Error>> {
    let key = SigningKey::generate(Algorithm::EdDsa)?;
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, API));
    let plan = AccessPlan::builder().open("GET", "/health").need("GET", "/dome", "signed-in").build()?;
    let guard = Guard::<NoOwn>::new(verifier, plan)?;
    let server = Server::http("127.0.0.1:0").map_err(|error| error as Box<dyn Error>)?;
    let base = format!("http://{}", server.server_addr());
    thread::spawn(move || serve(&server, &guard));

    let draft = AccessDraft::of("obs-0017").audience(API).client("desk").lasting(Lifetime::minutes(5));
    let token = Issuer::new(ISSUER, key).access(&draft, &vorsel::random_id()?, vorsel::now())?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let client = reqwest::Client::builder().no_proxy().build()?;
        for (path, token, expected) in
            [("/health", None, 200), ("/dome", None, 401), ("/dome", Some(&token), 200), ("/cellar", Some(&token), 403)]
        {
            let mut request = client.get(format!("{base}{path}"));
            if let Some(token) = token {
                request = request.bearer_auth(token);
            }
            let response = request.send().await?;
            let status = response.status().as_u16();
            println!("GET {path:<8} → {status} {}", response.text().await?);
            assert_eq!(status, expected);
        }
        Ok(())
    })
}
