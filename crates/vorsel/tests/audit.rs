//! What the log says of what changes something: one line each, who, what, why, and never a token.

use std::sync::Arc;

use vorsel::store::{MemoryStore, Which};
use vorsel::testing::StillClock;
use vorsel::{
    Admission, AdmissionError, Algorithm, Clock, Grant, Issued, IssuerKeys, KeyTimes, Keyring, LiveKeyring, NoOwn,
    RenewalRequest, Scopes, Sessions, SignIn, SigningKey, now,
};

#[path = "common/lines.rs"]
mod lines;
use lines::Lines;

struct Everybody;

#[async_trait::async_trait]
impl Admission<NoOwn> for Everybody {
    async fn admit(&self, subject: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        if subject.starts_with("vis") {
            return Err(AdmissionError::Denied { reason: "the address is not confirmed".to_owned() });
        }
        Ok(Grant { roles: Vec::new(), scopes: Scopes::default(), own: NoOwn {} })
    }
}

/// The lines since the last look, without the moment and the IDs in them.
fn since(lines: &Lines, seen: &mut usize, ids: &[(&str, &str)]) -> Vec<String> {
    let text = lines.text();
    let new: Vec<String> = text.lines().skip(*seen).map(str::to_owned).collect();
    *seen += new.len();
    let named = |line: &String| ids.iter().fold(line.clone(), |line, (id, name)| line.replace(id, name));
    new.iter().map(named).filter(|line| !line.contains("TRACE")).collect()
}

#[tokio::test]
async fn whatever_changes_something_leaves_one_line() {
    let (lines, mut seen) = (Lines::default(), 0);
    let _log = lines.collect();
    let clock = Arc::new(StillClock::at(now()));
    let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
        .keys(IssuerKeys::generate().expect("keys"))
        .store(Arc::new(MemoryStore::new()))
        .admission(Arc::new(Everybody))
        .clock(clock.clone())
        .build()
        .expect("sessions");
    let mut tokens = Vec::new();

    let device = format!("dome\n\u{1b}[2J{}", "x".repeat(300));
    let reply = sessions.start(SignIn::new("obs-0017", "desk").device(&device)).await.expect("a session");
    let id = sessions.of_subject("obs-0017").await.expect("an answer")[0].id.clone();
    let line = since(&lines, &mut seen, &[(&id, "S")]).remove(0);
    assert!(
        line.starts_with(" INFO vorsel::audit: a session begins event=\"signed-in\" subject=\"obs-0017\" session=\"S\" client=\"desk\" device=\"dome[2Jxxx"),
        "{line}"
    );
    assert!(line.len() < 400 && !line.contains('\u{1b}'), "{line}");

    assert!(sessions.start(SignIn::new("vis-0003\n\u{1b}[2J", "desk")).await.is_err());
    assert_eq!(
        since(&lines, &mut seen, &[]),
        [" INFO vorsel::sessions: sign-in refused: the subject is not admitted: the address is not confirmed \
          code=\"not-admitted\" subject=\"vis-0003\\n\\u{1b}[2J\" client=\"desk\""]
    );

    let renewed = sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.expect("a renewal");
    assert_eq!(
        since(&lines, &mut seen, &[(&id, "S")]),
        ["DEBUG vorsel::audit: a session is renewed event=\"renewed\" session=\"S\" client=\"desk\" generation=1"]
    );
    clock.advance(std::time::Duration::from_secs(60));
    let span = tracing::info_span!("request", by = "dir-0001");
    let replay = tracing::Instrument::instrument(sessions.renew(&reply.refresh_token, RenewalRequest::default()), span);
    assert!(replay.await.is_err());
    assert_eq!(
        since(&lines, &mut seen, &[(&id, "S")]),
        [
            " INFO request{by=\"dir-0001\"}: vorsel::audit: a session ends event=\"session-ended\" subject=\"obs-0017\" session=\"S\" \
             client=\"desk\" why=\"replay\"",
            " WARN request{by=\"dir-0001\"}: vorsel::sessions: a spent refresh token of generation 0 came back in generation 1; \
             the session is ended code=\"replay\" session=\"S\" subject=\"obs-0017\"",
        ]
    );
    assert!(sessions.renew(&renewed.refresh_token, RenewalRequest::default()).await.is_err());
    let refused = since(&lines, &mut seen, &[(&id, "S")]);
    assert!(
        refused[0].contains("renewal refused: ") && refused[0].contains("session=\"S\" client=\"desk\""),
        "{refused:?}"
    );
    assert!(sessions.renew("no token", RenewalRequest::default()).await.is_err());
    let refused = since(&lines, &mut seen, &[]);
    assert!(refused.len() == 1 && refused[0].contains("renewal refused: "), "{refused:?}");
    tokens.extend([reply, renewed]);

    let reply = sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    let other = sessions.of_subject("obs-0017").await.expect("an answer")[0].id.clone();
    sessions.sign_out(&reply.refresh_token, None).await.expect("an answer");
    // A second time nothing ends.
    sessions.sign_out(&reply.refresh_token, None).await.expect("an answer");
    sessions.end(Which::OfSubject("obs-0017")).await.expect("an answer");
    tokens.push(reply);
    tokens.push(sessions.start(SignIn::new("ope-0002", "desk")).await.expect("a session"));
    sessions.end(Which::OfSubject("ope-0002")).await.expect("an answer");
    sessions.end(Which::StartedBefore(clock.now())).await.expect("an answer");
    sessions.access_tokens().revoke(Issued::To("ope-0002")).await.expect("an answer");
    sessions.access_tokens().revoke_id("t-1").await.expect("an answer");
    let moment = clock.now().to_string();
    let audit: Vec<_> = since(&lines, &mut seen, &[(&other, "S"), (&moment, "NOW")]);
    let ends: Vec<_> = audit.iter().filter(|line| !line.contains("signed-in")).collect();
    assert_eq!(
        ends[..3],
        [
            " INFO vorsel::audit: a session ends event=\"session-ended\" subject=\"obs-0017\" session=\"S\" client=\"desk\" why=\"signed-out\"",
            " INFO vorsel::audit: all sessions of the subject end event=\"sessions-ended\" subject=\"ope-0002\" count=1 why=\"withdrawn\"",
            " INFO vorsel::audit: all sessions that started before a moment end event=\"sessions-ended\" before=NOW why=\"withdrawn\"",
        ]
    );
    assert!(ends[3].contains("event=\"revoked\" subject=\"ope-0002\" up_to=NOW until="), "{}", ends[3]);
    assert!(ends[4].contains("event=\"revoked\" token_id=\"t-1\" until="), "{}", ends[4]);
    assert_eq!(ends.len(), 5, "{ends:#?}");

    let text = lines.text();
    for token in tokens.iter().flat_map(|reply| [&reply.access_token, &reply.refresh_token]) {
        let signature = token.rsplit('.').next().expect("a part");
        assert!(!text.contains(signature), "a token stands in the log");
    }
}

#[test]
fn every_step_of_a_key_leaves_a_line_where_it_is_taken_and_where_it_is_learnt() {
    let (lines, mut seen) = (Lines::default(), 0);
    let _log = lines.collect();
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("ring.json");
    let first = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let old = first.key_id().to_owned();
    let keys = LiveKeyring::in_file(&path, || Ok(Keyring::new(first, KeyTimes::default(), now()))).expect("a keyring");
    let next = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let (kid, place) = (next.key_id().to_owned(), path.display().to_string());
    keys.change(|ring| ring.roll(next, now())).expect("a step");
    let names = [(&*kid, "NEXT"), (&*old, "FIRST"), (&*place, "FILE")];
    let rolled = since(&lines, &mut seen, &names);
    assert_eq!(rolled.len(), 1, "{rolled:?}");
    assert!(
        rolled[0].starts_with(" INFO vorsel::audit: a key changes its state event=\"key-changed\" key=\"NEXT\" was=\"unknown\" is=\"pre-active\" signs_from="),
        "{rolled:?}"
    );
    assert!(rolled[0].ends_with("place=\"FILE\""), "{rolled:?}");
    keys.change(|ring| ring.compromise(&kid, now())).expect("a step");
    let lost = since(&lines, &mut seen, &names);
    assert!(lost.len() == 1 && lost[0].contains("was=\"pre-active\" is=\"compromised\""), "{lost:?}");
}
