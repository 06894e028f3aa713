//! What the token endpoint answers to wrong calls, and what the log says of each. A file of its own, since what is logged is collected
//! of this thread alone.

use std::sync::Arc;

use vorsel::SignIn;
use vorsel::store::{MemoryStore, SessionStore};

mod common;
#[path = "common/lines.rs"]
mod lines;
#[path = "common/wire.rs"]
mod wire;
use common::house;
use lines::Lines;
use wire::Wire;

#[tokio::test]
async fn wrong_calls_get_clear_answers_and_one_line_each() {
    const FORM: &str = "application/x-www-form-urlencoded";
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let wire = Wire::endpoints(&house, |endpoints| endpoints).await;
    let token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
    let (grant, desk) = ("grant_type=refresh_token", "client_id=desk");
    let renew = format!("{grant}&{desk}&refresh_token={token}");
    let lines = Lines::default();
    let _collecting = lines.collect();
    let mut so_far = 0;
    for (method, content_type, form, status, error) in [
        ("GET", FORM, String::new(), 405, ""),
        ("POST", "application/json", "{}".to_owned(), 400, "invalid_request"),
        ("POST", "text/plain", renew.clone(), 400, "invalid_request"),
        ("POST", "application/x-www-form-urlencoded-not", renew.clone(), 400, "invalid_request"),
        ("POST", FORM, String::new(), 400, "invalid_request"),
        ("POST", FORM, format!("{renew}&x=%ff%fe"), 400, "invalid_request"),
        ("POST", FORM, "x".repeat(40_000), 400, "invalid_request"),
        ("POST", FORM, grant.to_owned(), 400, "invalid_request"),
        ("POST", FORM, format!("{grant}&{desk}"), 400, "invalid_request"),
        ("POST", FORM, format!("{grant}&refresh_token={token}"), 400, "invalid_request"),
        ("POST", FORM, format!("{grant}&{desk}&refresh_token="), 400, "invalid_request"),
        ("POST", FORM, format!("{grant}&{renew}"), 400, "invalid_request"),
        ("POST", FORM, format!("{renew}{}", "&x=".repeat(63)), 400, "invalid_request"),
        ("POST", FORM, format!("{renew}&client_secret=x"), 400, "invalid_client"),
        ("POST", FORM, format!("{renew}&client_secret=x&client_assertion=y"), 400, "invalid_request"),
        ("POST", FORM, format!("{desk}&grant_type=password&refresh_token={token}"), 400, "unsupported_grant_type"),
        ("POST", FORM, format!("{desk}&grant_type=client_credentials"), 400, "unsupported_grant_type"),
        ("POST", FORM, format!("{grant}&client_id=phone&refresh_token={token}"), 400, "invalid_grant"),
        ("POST", FORM, format!("{renew}&scope=dome:move"), 400, "invalid_scope"),
        ("POST", FORM, format!("{renew}&scope=a%20%20b"), 400, "invalid_scope"),
        ("POST", FORM, format!("{renew}&resource=https://elsewhere.test"), 400, "invalid_target"),
        ("POST", FORM, format!("{grant}&{desk}&refresh_token=nonsense"), 400, "invalid_grant"),
        ("POST", FORM, format!("{grant}&{desk}&refresh_token={}", &token[1..]), 400, "invalid_grant"),
        ("POST", "Application/X-WWW-form-urlencoded; charset=UTF-8", format!("{renew}&scope=logs:read"), 200, ""),
    ] {
        let method = method.parse().expect("a method");
        let request = wire.http.request(method, wire.at("/oauth/token")).header("content-type", content_type);
        let answer = wire.send(request.body(form.clone())).await;
        assert_eq!((answer.status, answer.error()), (status, error), "{content_type} {form:.80}");
        assert!(!answer.headers.contains_key("www-authenticate"), "a browser would ask its user: {form:.80}");
        let text = lines.text();
        let refusals: Vec<_> = text.lines().skip(so_far).filter(|line| line.contains("refused")).collect();
        so_far = text.lines().count();
        assert_eq!(refusals.len(), usize::from(!error.is_empty()), "{form:.80}\n{text}");
        assert!(refusals.iter().all(|line| !line.contains(&token[1..])), "{refusals:#?}");
    }
    // A name of a parameter is what a stranger has written, and ends no line.
    let name = "a\nERROR vorsel::keys: all is lost\u{85}\u{1b}[2J";
    assert_eq!(wire.post("/oauth/token", &[(name, "1"), (name, "2")]).await.error(), "invalid_request");
    let text = lines.text();
    assert!(text.contains("found a?ERROR vorsel::keys: all is lost??[2J twice"), "{text}");
    assert!(!text.lines().any(|line| line.starts_with("ERROR vorsel::keys")), "{text}");
}
