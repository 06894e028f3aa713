//! Signs in, renews, loses a reply, is robbed of a refresh token, and signs out; sessions are kept in SQLite.
//!
//! `cargo run -p vorsel-examples --example renew_and_end_session`

use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use vorsel::store::SqliteStore;
use vorsel::{
    Admission, AdmissionError, Grant, IssuerKeys, NoOwn, RenewalRequest, Scopes, SessionLimits, Sessions, SignIn,
};

/// The app's say at sign-in and at every renewal. A real one asks its database.
#[derive(Debug)]
struct Observers;

#[async_trait]
impl Admission<NoOwn> for Observers {
    async fn admit(&self, subject: &str, _client_id: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        if !subject.starts_with("obs-") {
            return Err(AdmissionError::Denied { reason: "not an observer".to_owned() });
        }
        let scopes = Scopes::parse("exposures:read").map_err(|error| AdmissionError::Unavailable(error.into()))?;
        Ok(Grant { roles: vec!["observer".to_owned()], scopes, own: NoOwn {} })
    }
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::temp_dir().join(format!("vorsel-example-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    let store = Arc::new(SqliteStore::open(folder.join("sessions.sqlite")).await?);
    let keys = IssuerKeys::in_folder(folder.join("keys"))?;
    let window = Duration::from_secs(3);
    let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
        .keys(keys)
        .store(store)
        .admission(Arc::new(Observers))
        .limits(SessionLimits { retry_window: window, ..SessionLimits::default() })
        .build()?;
    let renew = async |token: &str| sessions.renew(token, RenewalRequest::default()).await;

    let first = sessions.start(SignIn::new("obs-0017", "desk").device("dome terminal")).await?;
    println!("signed in; the access token lasts {} s", first.expires_in);

    let second = renew(&first.refresh_token).await?;
    let again = renew(&first.refresh_token).await?;
    assert_eq!(second.refresh_token, again.refresh_token);
    println!("renewed; the reply was lost, and the retry got the very same refresh token");

    tokio::time::sleep(window).await;
    let replay = renew(&first.refresh_token).await.expect_err("a spent token outside the retry window");
    println!("later:   {replay}");
    let ended = renew(&second.refresh_token).await.expect_err("the session is over");
    println!("so:      {ended}");

    let other = sessions.start(SignIn::new("obs-0017", "desk").device("laptop")).await?;
    sessions.sign_out(&other.refresh_token, Some("desk")).await?;
    println!("signed out: {}", renew(&other.refresh_token).await.expect_err("signed out"));
    std::fs::remove_dir_all(folder)?;
    Ok(())
}
