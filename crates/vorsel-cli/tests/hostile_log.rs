//! A hostile minute at the observatory, and its log: each line says who, where, what and why; nothing rings a bell, and no token,
//! password or control character is in it.

use std::fs::File;
use std::process::Stdio;

use reqwest::Method;

#[path = "common/instance.rs"]
mod instance;
use instance::Instance;

#[tokio::test]
async fn each_line_of_a_hostile_minute_says_who_where_what_and_why() {
    let folder = tempfile::tempdir().expect("a folder");
    let log = folder.path().join("log");
    let mut server =
        Instance::logging_to(Stdio::from(File::create(&log).expect("a file")), "127.0.0.1:0", &["--retry-window", "0"]);
    let caller = server.caller();
    let (token, refresh) = caller.sign_in("obs-0017").await;
    let client = server.client.clone();
    let url = |path: &str| format!("{}{path}", server.base);

    // A scanner.
    for number in 0..1_000 {
        let path = format!("/{}/{number}.php?x=%1b[2J", ["admin", "wp", ".git", "..%2f", "%00"][number % 5]);
        let status = client.get(url(&path)).send().await.expect("an answer").status();
        assert_eq!(status, 401, "{path}");
    }
    // Tokens that are none, credentials in the wrong place, a path without end.
    let altered = format!("{}x", &token[..token.len() - 1]);
    for (name, value) in [
        ("authorization", format!("Bearer {altered}")),
        ("authorization", "Bearer a.b.c".to_owned()),
        ("authorization", "Basic b3BlLTAwMDI6aGlsbA".to_owned()),
        ("x-instrument-key", "guessed".to_owned()),
        ("x-request-id", "r-1\u{1b}[31m".replace('\u{1b}', "") + &"7".repeat(4_000)),
    ] {
        assert!(client.get(url("/dome")).header(name, value).send().await.expect("an answer").status() == 401);
    }
    let long = format!("/dome/{}", "a".repeat(6_000));
    assert_eq!(client.get(url(&long)).send().await.expect("an answer").status(), 401);
    assert_eq!(client.get(url(&format!("/dome?access_token={token}"))).send().await.expect("an answer").status(), 401);
    // An observer who tries what is not theirs, and paths that are not there.
    for (method, path, status) in [
        (Method::POST, "/dome", 403),
        (Method::GET, "/people/dir-0001/roles", 403),
        (Method::GET, "/basement", 404),
        (Method::DELETE, "/me", 405),
    ] {
        assert_eq!(caller.status(method, path, &token).await.expect("an answer"), status, "{path}");
    }
    // A thief, and a token after the end.
    assert_eq!(caller.renew(&refresh).await.expect("an answer").0, 200);
    assert_eq!(caller.renew(&refresh).await.expect("an answer").0, 400);
    assert_eq!(caller.renew("stolen").await.expect("an answer").0, 400);
    assert_eq!(caller.status(Method::GET, "/me", &token).await.expect("an answer"), 401);
    assert_eq!(server.stop(), Some(0));

    let text = std::fs::read_to_string(&log).expect("the log");
    let lines: Vec<&str> = text.lines().collect();
    assert!(!text.contains("ERROR"), "{text}");
    assert!(!text.contains('\u{1b}') && !text.contains('\0'), "control characters are escaped");
    for secret in [&token, &refresh, &altered, "hill-obs-0017", "b3BlLTAwMDI6aGlsbA"] {
        assert!(!text.contains(secret.rsplit('.').next().expect("a part")), "{secret} is in the log");
    }
    for line in &lines {
        assert!(line.len() < 1_200, "{line}");
        let says = |field: &str| line.contains(&format!(" {field}="));
        let refusal = line.contains("vorsel::guard:") && ["code", "status", "method", "path"].into_iter().all(says);
        let change = line.contains("vorsel::audit:") && says("event") && says("session");
        let session = line.contains("vorsel::sessions:") && says("code");
        assert!(refusal || change || session, "{line}");
    }
    let count = |words: &str| lines.iter().filter(|line| line.contains(words)).count();
    assert_eq!(count("code=\"no-rule\""), 1_001, "the scanner's, and the path without end");
    // Whoever was let in by their token is named, also where what they want is refused.
    for (code, named) in [
        ("rule-not-met", "subject=\"obs-0017\" session="),
        ("no-path", "subject=\"obs-0017\" session="),
        ("no-method", "subject=\"obs-0017\" session="),
        ("revoked", "subject=\"obs-0017\" session="),
        ("replay", "subject=\"obs-0017\""),
    ] {
        assert!(lines.iter().any(|line| line.contains(&format!("code=\"{code}\"")) && line.contains(named)), "{code}");
    }
    for (event, times) in [("event=\"signed-in\"", 1), ("event=\"session-ended\"", 1), ("why=\"replay\"", 1)] {
        assert_eq!(
            count(event),
            times,
            "{event}\n{}",
            lines.iter().filter(|line| line.contains("audit")).copied().collect::<Vec<_>>().join("\n")
        );
    }
}
