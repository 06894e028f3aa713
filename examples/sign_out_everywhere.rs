//! Ends every session of a subject on one instance; the guard of another refuses the access tokens at once, without asking
//! the store at any request.
//!
//! `cargo run -p vorsel-examples --example sign_out_everywhere`

use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use http::Request;
use vorsel::store::{SqliteStore, Which};
use vorsel::{
    AccessPlan, Admission, AdmissionError, Checker, Expectations, Grant, Guard, IssuerKeys, LiveRevocations, NoOwn,
    Scopes, Sessions, SignIn, WhenSilent,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";

/// The app's say at sign-in and at every renewal. A real one asks its database.
struct Observers;

#[async_trait]
impl Admission<NoOwn> for Observers {
    async fn admit(&self, _subject: &str, _client_id: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: vec!["observer".to_owned()], scopes: Scopes::default(), own: NoOwn {} })
    }
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::temp_dir().join(format!("vorsel-example-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    let (file, keys) = (folder.join("sessions.sqlite"), IssuerKeys::in_folder(folder.join("keys"))?);

    // One instance signs people in and out. With PostgreSQL or Redis it is the same.
    let store = Arc::new(SqliteStore::open(&file).await?);
    let sessions = Sessions::builder(ISSUER, AUDIENCE);
    let sessions = sessions.keys(keys.clone()).store(store).admission(Arc::new(Observers)).build()?;

    // Another one guards the dome; all that they share is the file.
    let revocations = LiveRevocations::follow(Arc::new(SqliteStore::open(&file).await?)).await?;
    let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
    let checker = Checker::<NoOwn>::new(keys.access, Expectations::access(ISSUER, AUDIENCE));
    let guard = Guard::builder(checker, plan).revocations(revocations, Duration::from_secs(10), WhenSilent::GoOn);
    let guard = guard.build()?;
    let ask = async |token: &str| {
        let request = Request::get("/dome").header("authorization", format!("Bearer {token}")).body(());
        guard.decide(&request.expect("a request").into_parts().0, guard.now()).await
    };

    let mut tokens = Vec::new();
    for device in ["dome terminal", "laptop"] {
        let reply = sessions.start(SignIn::new("obs-0017", "desk").device(device)).await?;
        assert!(ask(&reply.access_token).await.is_ok());
        println!("let in on the {device}");
        tokens.push(reply.access_token);
    }

    let ended = sessions.end(Which::OfSubject("obs-0017")).await?;
    println!("{} sessions ended", ended.unwrap_or_default());
    for token in tokens {
        let refusal = loop {
            match ask(&token).await {
                Err(refusal) => break refusal,
                Ok(_) => tokio::time::sleep(Duration::from_millis(5)).await,
            }
        };
        println!("refused: {refusal}");
    }
    std::fs::remove_dir_all(folder)?;
    Ok(())
}
