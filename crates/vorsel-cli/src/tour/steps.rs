//! The story itself.

use std::time::{Duration, Instant};

use tokio::net::TcpListener;
use vorsel::{AccessDraft, Issuer, KeyPlace, Scopes, Settings, now, random_id};

use super::archive;
use super::client::{Reply, Tokens, Wire};
use super::log::Log;
use super::stage::{Stage, Step};
use crate::failure::Failure;
use crate::observatory::{self, Staff};

/// A short retry window, so that a replay need not be waited for.
const RETRY_WINDOW: Duration = Duration::from_millis(1_200);
/// As long as a test of whether somebody notices may take.
const NOTICED_WITHIN: Duration = Duration::from_secs(10);
const AN_HOUR: Duration = Duration::from_secs(3_600);

/// The visitors of the story.
struct Tour {
    stage: Stage,
    wire: Wire,
    /// Makes the tokens that no server gives out: expired, for somebody else.
    issuer: Issuer,
    settings: Settings,
}

/// Walks the whole tour; says how many steps came out as told, and how many there were.
pub(super) async fn walk(log: Log) -> Result<(u32, u32), Failure> {
    let folder = tempfile::tempdir()?;
    let mut settings = observatory::settings([])?;
    settings.keys = KeyPlace::Folder(folder.path().join("keys"));
    settings.store = format!("sqlite:{}", folder.path().join("sessions.sqlite").display()).parse()?;
    settings.limits.retry_window = RETRY_WINDOW;
    let opened = settings.clone().open().await?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    let (app, _) = observatory::open(&opened, &base, true)?;
    tokio::spawn(async move {
        axum::serve(listener, app.into_make_service_with_connect_info::<std::net::SocketAddr>()).await
    });
    anstream::println!("Skarn Hill observatory at {base}, sessions in SQLite, keys made for this tour");
    let key = opened.keys.access.current().signing_key(now()).cloned().ok_or_else(|| Failure::new("no key signs"))?;
    let issuer = Issuer::new(&settings.issuer, key);
    let wire = Wire::connect(base).await?;
    let mut tour = Tour { stage: Stage::new(log, observatory::access_plan()?), wire, issuer, settings };
    tour.all().await?;
    Ok(tour.stage.score())
}

impl Tour {
    async fn all(&mut self) -> Result<(), Failure> {
        self.stage.chapter("Without a token");
        self.call("anybody asks how the observatory is", ("GET", "/health"), None, 200, None).await?;
        self.call("somebody without a token asks for the dome", ("GET", "/dome"), None, 401, Some("no-credential"))
            .await?;

        self.stage.chapter("Signing in");
        let visitor = self.sign_in("vis-0003").await?;
        let observer = self.sign_in("obs-0017").await?;
        let operator = self.sign_in("ope-0002").await?;

        self.stage.chapter("Role, scope and policy");
        self.visitor(&visitor).await?;
        self.observer(&observer).await?;
        self.operator(&operator).await?;

        self.stage.chapter("Tokens that are not what they should be");
        self.bad_tokens(&operator).await?;

        self.stage.chapter("Renewing");
        self.renewals(&observer).await?;

        self.stage.chapter("Signing out");
        self.sign_out(&operator).await?;

        self.stage.chapter("Second act: the archive, another service, without a database");
        self.archive().await
    }

    async fn visitor(&mut self, visitor: &Tokens) -> Result<(), Failure> {
        let token = Some(visitor.access_token.as_str());
        self.call("vis-0003, a visitor, looks at the exposures", ("GET", "/exposures"), token, 200, None).await?;
        self.call("vis-0003 opens the night log", ("GET", "/night-log"), token, 403, Some("rule-not-met")).await
    }

    async fn observer(&mut self, observer: &Tokens) -> Result<(), Failure> {
        let token = Some(observer.access_token.as_str());
        let (own, other) = ("/observers/obs-0017/proposals", "/observers/obs-0020/proposals");
        self.call("obs-0017, an observer, reads their own proposals", ("GET", own), token, 200, None).await?;
        self.call("obs-0017 reads somebody else's", ("GET", other), token, 403, Some("rule-not-met")).await?;
        self.call("obs-0017 moves the dome", ("POST", "/dome"), token, 403, Some("rule-not-met")).await
    }

    async fn operator(&mut self, operator: &Tokens) -> Result<(), Failure> {
        let token = Some(operator.access_token.as_str());
        self.call("ope-0002, an operator, moves the dome", ("POST", "/dome"), token, 200, None).await?;
        let what = "ope-0002 tries a path that is not there";
        self.call(what, ("GET", "/basement"), token, 404, Some("no-path")).await
    }

    async fn bad_tokens(&mut self, operator: &Tokens) -> Result<(), Failure> {
        let altered = altered(&operator.access_token);
        let what = "ope-0002's token, one character altered";
        self.call(what, ("GET", "/dome"), Some(&altered), 401, Some("signature-mismatch")).await?;
        let expired = self.token(&self.settings.audience, AN_HOUR)?;
        self.call("a token that ran out", ("GET", "/dome"), Some(&expired), 401, Some("expired")).await?;
        let elsewhere = self.token("https://lab.skarnhill.test", Duration::ZERO)?;
        let what = "a token for another audience";
        self.call(what, ("GET", "/dome"), Some(&elsewhere), 401, Some("wrong-audience")).await
    }

    async fn renewals(&mut self, first: &Tokens) -> Result<(), Failure> {
        let what = "obs-0017 renews";
        let reply = self.wire.renew(&first.refresh_token).await?;
        let spent_at = Instant::now();
        let second = reply.tokens();
        let outcome = if second.is_some() { Ok("a new pair; the refresh token is spent") } else { Err("no new pair") };
        self.renewal(what, 200, None, &reply, outcome);

        let reply = self.wire.renew(&first.refresh_token).await?;
        let same = second.as_ref().zip(reply.tokens()).is_some_and(|(a, b)| a.refresh_token == b.refresh_token);
        let outcome =
            if same { Ok("the very same refresh token: a lost reply is no theft") } else { Err("another one") };
        self.renewal("the reply is lost; the spent token comes again", 200, None, &reply, outcome);

        let second = second.unwrap_or_else(|| first.clone());
        let token = Some(second.access_token.as_str());
        self.call("obs-0017 works on with the new access token", ("GET", "/exposures"), token, 200, None).await?;

        tokio::time::sleep((RETRY_WINDOW + Duration::from_millis(50)).saturating_sub(spent_at.elapsed())).await;
        let reply = self.wire.renew(&first.refresh_token).await?;
        let what = "later the spent token comes: somebody has a copy";
        self.renewal(what, 400, Some("a spent refresh token"), &reply, Ok("the session is ended"));
        let reply = self.wire.renew(&second.refresh_token).await?;
        let what = "so the session's newest token is no good either";
        self.renewal(what, 400, Some("the session has ended: replay"), &reply, Ok(""));
        Ok(())
    }

    async fn sign_out(&mut self, operator: &Tokens) -> Result<(), Failure> {
        let reply = self.wire.sign_out(&operator.refresh_token).await?;
        let step = Step {
            what: "ope-0002 signs out",
            request: ("POST", &format!("{}/revoke", observatory::PREFIX)),
            status: 200,
            refused_by: None,
        };
        self.stage.tell_with(&step, &reply, Ok("the session is ended".to_owned()));
        let reply = self.wire.renew(&operator.refresh_token).await?;
        let refused_by = Some("the session has ended: signed-out");
        self.renewal("ope-0002's refresh token is tried all the same", 400, refused_by, &reply, Ok(""));
        let token = Some(operator.access_token.as_str());
        self.call("ope-0002's access token, not yet expired", ("GET", "/dome"), token, 401, Some("revoked")).await
    }

    async fn archive(&mut self) -> Result<(), Failure> {
        let archive = self.wire.at(archive::open(&self.settings, self.wire.base()).await?);
        // That it begins to follow is no refusal.
        self.stage.pass_over();
        let director = self.sign_in("dir-0001").await?;
        let request = ("GET", "/plates");
        let step = |what, status, refused_by| Step { what, request, status, refused_by };
        let reply = archive.call(request, Some(&director.access_token)).await?;
        let known = "the token is checked there, by keys that were fetched";
        self.stage.tell_with(&step("dir-0001 looks at the archive's plates", 200, None), &reply, Ok(known.to_owned()));
        let signed_out_at = Instant::now();
        let reply = self.wire.sign_out(&director.refresh_token).await?;
        let path = format!("{}/revoke", observatory::PREFIX);
        let what = "dir-0001 signs out, at the observatory";
        let out = Step { what, request: ("POST", &path), status: 200, refused_by: None };
        self.stage.tell_with(&out, &reply, Ok("the archive is told, by a signed event".to_owned()));
        let mut reply = archive.call(request, Some(&director.access_token)).await?;
        while reply.status == 200 && signed_out_at.elapsed() < NOTICED_WITHIN {
            tokio::time::sleep(Duration::from_millis(1)).await;
            reply = archive.call(request, Some(&director.access_token)).await?;
        }
        let what = format!("{} ms later the same token at the archive", signed_out_at.elapsed().as_millis());
        self.stage.tell_with(&step(&what, 401, Some("revoked")), &reply, Ok(String::new()));
        Ok(())
    }

    async fn sign_in(&mut self, subject: &str) -> Result<Tokens, Failure> {
        let reply = self.wire.sign_in(subject).await?;
        let step =
            Step { what: &format!("{subject} signs in"), request: ("POST", "/sign-in"), status: 200, refused_by: None };
        let outcome = match &reply.body["expires_in"].as_u64() {
            Some(seconds) => Ok(format!("an access token for {seconds} s and a refresh token")),
            None => Err("expected a pair of tokens".to_owned()),
        };
        self.stage.tell_with(&step, &reply, outcome);
        reply.tokens().ok_or_else(|| Failure::new(format!("{subject} could not sign in")))
    }

    async fn call(
        &mut self,
        what: &str,
        request: (&str, &str),
        token: Option<&str>,
        status: u16,
        refused_by: Option<&str>,
    ) -> Result<(), Failure> {
        let reply = self.wire.call(request, token).await?;
        self.stage.tell(&Step { what, request, status, refused_by }, &reply);
        Ok(())
    }

    fn renewal(
        &mut self,
        what: &str,
        status: u16,
        refused_by: Option<&str>,
        reply: &Reply,
        outcome: Result<&str, &str>,
    ) {
        let path = format!("{}/token", observatory::PREFIX);
        let step = Step { what, request: ("POST", &path), status, refused_by };
        self.stage.tell_with(&step, reply, outcome.map(str::to_owned).map_err(str::to_owned));
    }

    /// An operator's token for `audience`, issued `age` ago with the usual lifetime.
    fn token(&self, audience: &str, age: Duration) -> Result<String, Failure> {
        let lifetime = self.settings.access_lifetime;
        let draft = AccessDraft::of("ope-0002")
            .audience(audience)
            .client(observatory::CLIENT)
            .lasting(lifetime)
            .roles(["operator"])
            .scopes(Scopes::parse("dome:move")?)
            .own(Staff { training: 4, confirmed: true, ..Staff::default() });
        Ok(self.issuer.access(&draft, &random_id()?, now().before(age))?)
    }
}

/// The token with one character of its claims altered.
fn altered(token: &str) -> String {
    let middle = token.find('.').map_or(0, |dot| dot + 10);
    let swap = |(index, character): (usize, char)| match (index == middle, character) {
        (true, 'A') => 'B',
        (true, _) => 'A',
        (false, character) => character,
    };
    token.chars().enumerate().map(swap).collect()
}
