//! What a `main` prints that returns an error of set-up: people read it, so it says under `Debug` what it says to them.

use std::error::Error;
use std::path::Path;

use vorsel::store::StoreError;
use vorsel::testing::TestIssuer;
use vorsel::{
    AccessPlan, AccessTokens, Expectations, IssuerKeys, KeySet, Lifetime, LiveKeyring, NoOwn, Routes, Scopes, load_plan,
};

fn shown<T>(result: Result<T, impl Error + 'static>) -> (String, String) {
    let error: Box<dyn Error> = result.err().expect("an error").into();
    (error.to_string(), format!("{error:?}"))
}

#[test]
fn errors_of_set_up_read_the_same_under_debug_with_every_cause() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).expect("a file");
        path
    };
    let exposed = file("ring.json", "no keyring");
    #[cfg(unix)]
    std::fs::set_permissions(&exposed, std::os::unix::fs::PermissionsExt::from_mode(0o600)).expect("a mode");
    let issuer = TestIssuer::new();
    let plan = |rule: &str| AccessPlan::builder().need("GET", "/dome", rule).build();
    let guard = |rule: &str| issuer.guard::<NoOwn>(plan(rule).expect("a plan")).build();
    let nowhere = Path::new("/nowhere/access.toml");
    for ((display, debug), words) in [
        (shown(load_plan(nowhere)), &["/nowhere/access.toml", "No such file"][..]),
        (
            shown(load_plan(file("a.toml", "[[route]]"))),
            &["a.toml:1:3: unknown member \"route\"; did you mean \"routes\"?"],
        ),
        (shown(plan("role obsrver")), &["unknown role \"obsrver\""]),
        (shown(guard("predicate owns-dome")), &["the access plan asks for predicate owns-dome"]),
        (
            shown(Routes::new().guard(guard("signed-in").expect("a guard"))),
            &["GET /dome has an entry in the access plan, but no handler"],
        ),
        (
            shown(LiveKeyring::in_file(&exposed, || unreachable!("the file is there"))),
            &["ring.json holds no usable keyring", "expected"],
        ),
        (shown(IssuerKeys::in_folder("/proc/nothing/keys")), &["the key file", "No such file"]),
        (shown(KeySet::read("no keys")), &["expected"]),
        (shown(AccessTokens::builder("https://id.skarnhill.test", "https://api.skarnhill.test").build()), &["keys"]),
        (shown(Scopes::parse("a\"b")), &["expected"]),
        (shown(Lifetime::try_from(std::time::Duration::ZERO)), &["expected"]),
        (shown(Expectations::access("a", "b").skew(std::time::Duration::from_secs(86_400))), &["expected"]),
        (
            shown::<()>(Err(StoreError::new("load a session", std::io::Error::other("connection reset")))),
            &["the session store failed to load a session", "connection reset"],
        ),
    ] {
        assert!(debug.starts_with(&display), "{debug} does not say first what is said to people: {display}");
        assert!(words.iter().all(|word| debug.contains(word)), "{debug} lacks one of {words:?}");
        assert!(!debug.contains(['{', '}']), "{debug} is data, not words");
    }
}
