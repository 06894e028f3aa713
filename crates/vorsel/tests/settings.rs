//! Settings from a file and the environment: what they come to, and every way to get them wrong.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::routing::get;
use http::Request;
use tower::ServiceExt;
use vorsel::{
    Admission, AdmissionError, Beyond, Caller, Grant, KeyPlace, NoOwn, OpenError, Scopes, Settings, SettingsError,
    SignIn, WhenSilent,
};

const LEAST: &str = "issuer = \"https://id.skarnhill.test\"\naudience = \"https://api.skarnhill.test\"\n";

fn read(text: &str, variables: &[(&str, &str)]) -> Result<Settings, SettingsError> {
    let variables = variables.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
    Settings::read(text, Path::new("vorsel.toml"), variables)
}

#[test]
fn what_is_not_said_is_as_the_page_says() {
    let settings = read(LEAST, &[]).expect("settings");
    assert_eq!(settings.store.to_string(), "memory:");
    assert!(matches!(&settings.keys, KeyPlace::Folder(folder) if folder == Path::new("keys")));
    assert_eq!((settings.skew.as_secs(), settings.clock_difference.as_secs()), (5, 30));
    assert_eq!((settings.access_lifetime.as_secs(), settings.limits.idle.as_secs()), (300, 14 * 86_400));
    assert_eq!((settings.limits.absolute.as_secs(), settings.limits.retry_window.as_secs()), (90 * 86_400, 10));
    assert!(settings.limits.per_subject.is_none() && settings.plan.is_none());
    assert_eq!((settings.longest_silence.as_secs(), settings.when_silent), (10, WhenSilent::GoOn));
}

#[test]
fn variables_go_over_the_file_and_every_setting_has_one() {
    let text = format!(
        "{LEAST}skew = 7\nclock_difference = \"1m\"\ncookie = \"night\"\ncookie_origins = [\"https://desk.skarnhill.test\"]\n\
         own_origin = \"https://api.skarnhill.test\"\n[keys]\nfolder = \"ring\"\n[store]\naddress = \"sqlite:hill.sqlite\"\n\
         connections = 8\nanswer_within = \"750ms\"\n[lifetimes]\naccess = \"2m\"\nidle = \"1d\"\nsession = \"7d\"\n\
         retry_window = 0\n[sessions]\nmost = 3\nbeyond = \"end-oldest\"\n[revocations]\nlongest_silence = \"20s\"\n\
         when_silent = \"refuse\"\n"
    );
    let settings = Settings::read(&text, Path::new("/etc/hill/vorsel.toml"), []).expect("settings");
    assert_eq!(settings.store.to_string(), "sqlite:/etc/hill/hill.sqlite", "reckoned from the file's folder");
    assert!(matches!(&settings.keys, KeyPlace::Folder(folder) if folder == Path::new("/etc/hill/ring")));
    assert_eq!(settings.store_options.connections, Some(8));
    assert_eq!(settings.store_options.answer_within, Some(Duration::from_millis(750)));
    let limits = settings.limits;
    assert_eq!(
        (limits.idle.as_secs(), limits.absolute.as_secs(), limits.retry_window),
        (86_400, 604_800, Duration::ZERO)
    );
    assert!(limits.per_subject.is_some_and(|limit| limit.most.get() == 3 && limit.beyond == Beyond::EndOldest));
    assert_eq!(settings.when_silent, WhenSilent::Refuse);

    let over = read(
        &text,
        &[
            ("VORSEL_ISSUER", "https://other.skarnhill.test"),
            ("VORSEL_STORE_ADDRESS", "sqlite:other.sqlite"),
            ("VORSEL_LIFETIMES_ACCESS", "90"),
            ("VORSEL_COOKIE_ORIGINS", "https://one.test, https://two.test"),
            ("VORSEL_SESSIONS_MOST", "9"),
            ("VORSEL_LOG", "info"),
            ("PATH", "/bin"),
        ],
    )
    .expect("settings");
    assert_eq!(
        (over.issuer.as_str(), over.store.to_string().as_str()),
        ("https://other.skarnhill.test", "sqlite:other.sqlite")
    );
    assert_eq!(over.access_lifetime.as_secs(), 90);
    assert_eq!(over.cookie_origins, ["https://one.test", "https://two.test"]);
    assert!(over.warnings().is_empty(), "{:?}", over.warnings());
    // As variables the settings come to the same.
    let variables: Vec<_> =
        settings.as_variables().iter().map(|(name, value)| (name.as_str(), value.to_str().expect("text"))).collect();
    let again = read("", &variables).expect("settings");
    assert_eq!(format!("{again:?}"), format!("{settings:?}"));
}

#[test]
fn every_mistake_is_located_and_all_come_at_once() {
    let problems = |text: &str, variables: &[(&str, &str)]| read(text, variables).expect_err(text).problems().to_vec();
    for (text, problem) in [
        ("isuer = \"a\"", "vorsel.toml:3:1: unknown setting \"isuer\"; did you mean \"issuer\"?"),
        ("[stor]\naddress = \"memory:\"", "vorsel.toml:3:2: unknown setting \"stor\""),
        (
            "[store]\nadress = \"memory:\"",
            "vorsel.toml:4:1: unknown setting \"store.adress\"; did you mean \"store.address\"?",
        ),
        ("store = \"memory:\"", "vorsel.toml:3:1: expected a table: [store]"),
        (
            "skew = \"ten\"",
            "vorsel.toml:3:1: skew: expected a duration from 0 ms to 5 minutes, such as \"10m\", but found \"ten\"",
        ),
        (
            "skew = 301",
            "vorsel.toml:3:1: skew: expected a duration from 0 ms to 5 minutes, such as \"10m\", but found 301",
        ),
        ("skew = -1", "but found -1"),
        ("skew = 1.5", "but found a value that is of type float"),
        ("cookie_origins = \"a\"", "vorsel.toml:3:1: cookie_origins: expected a list of texts, but found \"a\""),
        ("cookie_origins = [1]", "expected a list of texts"),
        (
            "[sessions]\nmost = 0",
            "vorsel.toml:4:1: sessions.most: expected a whole number from 1 to 1000000, but found 0",
        ),
        ("[sessions]\nbeyond = \"refuse\"", "vorsel.toml:4:1: sessions.beyond: expected sessions.most beside it"),
        ("[sessions]\nbeyond = \"drop\"", "expected \"end-oldest\" or \"refuse\", but found \"drop\""),
        ("[store]\naddress = \"mysql://h\"", "vorsel.toml:4:1: store.address: expected memory:, sqlite:PATH"),
        (
            "[store]\nschema = \"hill\"",
            "vorsel.toml:4:1: store.schema: expected it left out: it says nothing of a memory store",
        ),
        (
            "[keys]\nsecret = \"short\"",
            "vorsel.toml:4:1: keys.secret: expected 32 random bytes or more in base64url, but found other text",
        ),
        ("[keys]\nsecret = 7", "vorsel.toml:4:1: keys.secret: expected a secret as a text, but found something else"),
        ("[keys]\nsecret_file = \"/nowhere\"", "vorsel.toml:4:1: keys.secret_file: cannot read /nowhere: No such file"),
        ("[keys]\nfolder_file = \"x\"", "vorsel.toml:4:1: unknown setting \"keys.folder_file\""),
        ("plan = \"/nowhere/access.toml\"", "cannot read the access plan /nowhere/access.toml: No such file"),
        ("[lifetimes]\naccess = \"20y\"", "lifetimes.access: expected a duration from 1 second to 3660 days"),
        ("issuer = \"a\"", "vorsel.toml:3:1: duplicate key"),
        ("= 7", "vorsel.toml:3:1: "),
    ] {
        let found = problems(&format!("{LEAST}{text}"), &[]);
        assert!(found.iter().any(|found| found.contains(problem)), "{text}: {found:?}");
    }
    assert_eq!(
        problems("", &[]),
        [
            "expected issuer in vorsel.toml, or VORSEL_ISSUER, but found neither",
            "expected audience in vorsel.toml, or VORSEL_AUDIENCE, but found neither",
        ]
    );
    assert_eq!(
        problems(
            &format!("{LEAST}skew = true\n[store]\nconnections = \"many\""),
            &[("VORSEL_LIFETIMES_IDLE", "soon"), ("VORSEL_ISSUER", "")]
        )
        .len(),
        4,
        "all at once"
    );
    let missing = Settings::load("/nowhere/vorsel.toml").expect_err("no file").to_string();
    assert!(missing.contains("cannot read the settings /nowhere/vorsel.toml: No such file"), "{missing}");
}

#[test]
fn unknown_variables_are_a_warning_with_what_was_meant() {
    let settings = read(LEAST, &[("VORSEL_STORE_ADRESS", "memory:"), ("VORSEL_NIGHT", "1")]).expect("settings");
    assert_eq!(
        settings.warnings(),
        [
            "the variable VORSEL_STORE_ADRESS is no setting; did you mean \"VORSEL_STORE_ADDRESS\"?",
            "the variable VORSEL_NIGHT is no setting",
        ]
    );
}

#[test]
fn secrets_come_from_files_or_variables_and_are_never_shown() {
    let folder = tempfile::tempdir().expect("a folder");
    let secret = "c2VjcmV0LXNlY3JldC1zZWNyZXQtc2VjcmV0LXNlY3JldA";
    std::fs::write(folder.path().join("secret"), format!("{secret}\n")).expect("a file");
    std::fs::write(folder.path().join("address"), "postgres://hill:hunter@db/hill\n").expect("a file");
    let text = format!("{LEAST}[keys]\nsecret_file = \"secret\"\n[store]\naddress_file = \"address\"\n");
    let settings = Settings::read(&text, &folder.path().join("vorsel.toml"), []).expect("settings");
    assert!(matches!(settings.keys, KeyPlace::Store(_)));
    assert_eq!(settings.store.to_string(), "postgres://db/hill");
    let path = folder.path().join("secret").display().to_string();
    let by_variable = read(LEAST, &[("VORSEL_KEYS_SECRET_FILE", &path), ("VORSEL_STORE_ADDRESS", "redis://:hunter@c")])
        .expect("settings");
    for shown in [format!("{settings:?}"), format!("{by_variable:?}"), format!("{:?}", by_variable.keys)] {
        assert!(!shown.contains("hunter") && !shown.contains(secret), "{shown}");
    }
    for wrong in [
        "[store]\naddress = \"postgre://hill:hunter@db/hill\"",
        "[store]\naddress = [\"hunter\"]",
        "[keys]\nsecret = \"hunter\"",
    ] {
        let error = read(&format!("{LEAST}{wrong}"), &[]).expect_err(wrong);
        assert!(!error.to_string().contains("hunter"), "{error}");
    }
}

struct Everybody;

#[async_trait::async_trait]
impl Admission<NoOwn> for Everybody {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: vec!["operator".to_owned()], scopes: Scopes::default(), own: NoOwn {} })
    }
}

#[tokio::test]
async fn an_app_is_made_from_them_in_a_few_lines() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("vorsel.toml");
    std::fs::write(
        folder.path().join("access.toml"),
        "[roles]\noperator = []\n[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = \"role operator\"\n",
    )
    .expect("a file");
    std::fs::write(&file, format!("{LEAST}plan = \"access.toml\"\n[store]\naddress = \"sqlite:hill.sqlite\"\n"))
        .expect("a file");

    let opened = Settings::load(&file).expect("settings").open().await.expect("opened");
    let sessions = opened.sessions(Arc::new(Everybody)).build().expect("sessions");
    let router = Router::new().route("/dome", get(async |caller: Caller| caller.subject().to_owned()));
    let app = opened.guard::<NoOwn>().expect("a plan").build().expect("a guard").router(router).expect("an app");

    let reply = sessions.start(SignIn::new("ope-0002", "desk")).await.expect("a session");
    let request = |token: &str| {
        Request::builder()
            .uri("/dome")
            .header("authorization", format!("Bearer {token}"))
            .body(Body::empty())
            .expect("a request")
    };
    let status = async |token: &str| app.clone().oneshot(request(token)).await.expect("an answer").status().as_u16();
    assert_eq!(status(&reply.access_token).await, 200);
    assert_eq!(status("not-a-token").await, 401);
    sessions.sign_out(&reply.refresh_token, None).await.expect("an answer");
    assert_eq!(status(&reply.access_token).await, 401, "the guard follows what is revoked");
    assert!(folder.path().join("keys/access-keys.json").exists() && folder.path().join("hill.sqlite").exists());
    let access = opened.access_tokens().build().expect("access tokens");
    assert!(access.issue(&access.draft("mast", "mast")).is_ok());

    let without = read(LEAST, &[("VORSEL_KEYS_FOLDER", folder.path().join("keys").to_str().expect("a path"))]);
    let opened = without.expect("settings").open().await.expect("opened");
    assert!(matches!(opened.guard::<NoOwn>(), Err(OpenError::NoPlan)));
    let nowhere = read(LEAST, &[("VORSEL_STORE_ADDRESS", "sqlite:/nowhere/hill.sqlite")]).expect("settings");
    let error = nowhere.open().await.expect_err("no folder").to_string();
    assert_eq!(error, "the store sqlite:/nowhere/hill.sqlite cannot be opened");
}

#[test]
fn the_page_about_settings_is_that_of_the_code() {
    let page =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/settings.md")).expect("the page");
    assert!(
        page.contains(&Settings::described()),
        "docs/settings.md has another table than this:\n{}",
        Settings::described()
    );
}
