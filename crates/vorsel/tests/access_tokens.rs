//! Access tokens without a session, as machine clients have them: issued, checked, revoked, and nothing set up by half.

use std::sync::Arc;
use std::time::Duration;

use vorsel::store::{MemoryStore, SessionStore};
use vorsel::testing::StillClock;
use vorsel::{
    AccessPlan, AccessTokens, AccessTokensBuilder, Algorithm, Expectations, Finding, Issued, KeyTimes, Keyring,
    Lifetime, LiveKeyring, LiveRevocations, NoOwn, Sessions, SigningKey, Timestamp,
};

const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const CLIENT: &str = "dome-controller";

fn builder() -> AccessTokensBuilder {
    AccessTokens::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
}

fn key() -> SigningKey {
    SigningKey::generate(Algorithm::EdDsa).expect("a key")
}

fn issue(tokens: &AccessTokens, client: &str) -> String {
    tokens.issue(&tokens.draft(client, client).roles(["instrument"])).expect("a token")
}

fn code<T>(checked: Result<T, Box<Finding>>) -> Option<&'static str> {
    checked.err().map(|finding| finding.check.code())
}

#[test]
fn what_is_issued_stands_for_its_lifetime_and_says_who() {
    let clock = Arc::new(StillClock::at(NOW));
    let tokens =
        builder().keys(key()).store(Arc::new(MemoryStore::new())).clock(clock.clone()).build().expect("tokens");
    let token = issue(&tokens, CLIENT);
    let checked = tokens.check(&token).expect("accepted");
    let claims = checked.claims();
    assert_eq!((claims.subject(), claims.client_id(), claims.session_id()), (Some(CLIENT), Some(CLIENT), None));
    assert!(claims.roles().eq(["instrument"]));
    assert_ne!(issue(&tokens, CLIENT), token, "each has an id of its own");
    clock.advance(Duration::from_secs(300) + Expectations::DEFAULT_SKEW - Duration::from_micros(1));
    assert_eq!(code(tokens.check(&token)), None, "five minutes if nothing is set");
    clock.advance(Duration::from_micros(1));
    assert_eq!(code(tokens.check(&token)), Some("expired"));
    let other = builder().keys(key()).store(Arc::new(MemoryStore::new())).build().expect("tokens");
    assert_eq!(code(other.check(&token)), Some("unknown-key"));
}

#[tokio::test]
async fn a_revoked_token_is_refused_at_once_where_the_feed_is_followed() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let clock = Arc::new(StillClock::at(NOW));
    let view = LiveRevocations::follow_by(store.clone(), clock.clone()).await.expect("a view");
    let tokens = builder().keys(key()).store(store.clone()).clock(clock).revocations(view).build().expect("tokens");
    let [one, other] = [issue(&tokens, CLIENT), issue(&tokens, CLIENT)];
    let error = tokens.revoke_token(&one, Some("somebody-else")).await.expect_err("RFC 7009 section 2.1").to_string();
    assert_eq!(error, "the access token was given to another client than \"somebody-else\"");
    tokens.revoke_token("no token", Some(CLIENT)).await.expect("nothing to do");
    tokens.revoke_token("", None).await.expect("nothing to do");
    assert_eq!((code(tokens.check(&one)), store.feed(None, 10).await.expect("a feed").entries.len()), (None, 0));
    tokens.revoke_token(&one, Some(CLIENT)).await.expect("revoked");
    assert_eq!((code(tokens.check(&one)), code(tokens.check(&other))), (Some("revoked"), None));
    tokens.revoke(Issued::To(CLIENT)).await.expect("revoked");
    assert_eq!(code(tokens.check(&other)), Some("revoked"));
    let later = NOW.after(Duration::from_micros(1));
    let error = tokens.revoke_up_to(Issued::To(CLIENT), later).await.expect_err("nobody can know");
    assert_eq!(error.to_string(), format!("expected a moment up to now, {NOW}, but found {later}"));
}

#[test]
fn what_is_missing_is_named_and_the_keyring_is_told_of_the_lifetime() {
    let store = || Arc::new(MemoryStore::new());
    for (builder, missing) in [(builder(), "the keys"), (builder().keys(key()), "the store")] {
        let error = builder.build().expect_err("half set up").to_string();
        assert_eq!(error, format!("expected {missing} to be set before build()"));
    }
    let error = Sessions::<NoOwn>::builder("i", "a").store(store()).build().expect_err("half set up");
    assert_eq!(error.to_string(), "expected the keys to be set before build()");

    let ring = LiveKeyring::from(Keyring::new(key(), KeyTimes::default(), NOW));
    let longer = Lifetime::days(3);
    assert!(ring.current().times().longest_lifetime < longer, "the default is shorter");
    let tokens = builder().keys(ring.clone()).store(store()).lifetime(longer).build().expect("tokens");
    assert_eq!((ring.current().times().longest_lifetime, tokens.lifetime()), (longer, longer));
}

/// Else it goes into the token, and nobody hears of it.
#[test]
fn a_role_that_the_plan_does_not_declare_is_not_issued() {
    let plan = AccessPlan::builder().role("instrument", &[]).need("POST", "/weather", "role instrument").build();
    let tokens = builder().keys(key()).store(Arc::new(MemoryStore::new())).roles_of(&plan.expect("a plan"));
    let tokens = tokens.build().expect("tokens");
    issue(&tokens, CLIENT);
    let error =
        tokens.issue(&tokens.draft(CLIENT, CLIENT).roles(["instrument", "instrumnt"])).expect_err("no such role");
    assert_eq!(error.to_string(), "expected roles that are declared, such as \"instrument\", but found \"instrumnt\"");
}
