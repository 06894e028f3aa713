//! What the figures say, as an exporter shows them; and that the page about them names each.

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::routing::get;
use http::Request;
use metrics_exporter_prometheus::PrometheusBuilder;
use tower::ServiceExt;
use vorsel::store::MemoryStore;
use vorsel::{
    Admission, AdmissionError, Checker, Expectations, Grant, Guard, Introspection, IssuerKeys, KeptTokens,
    LiveRevocations, NoOwn, RemoteIssuer, RemoteLimits, RenewalRequest, Scopes, Sessions, SignIn, TokenKeeper,
    WhenSilent,
};

#[path = "common/lab.rs"]
mod lab;
use lab::{Lab, Mood, key};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
/// Nobody listens there.
const NOWHERE: &str = "http://127.0.0.1:9";

struct Everybody;

#[async_trait::async_trait]
impl Admission<NoOwn> for Everybody {
    async fn admit(&self, subject: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        if subject.starts_with("vis") {
            return Err(AdmissionError::Denied { reason: "not confirmed".to_owned() });
        }
        Ok(Grant { roles: vec!["operator".to_owned()], scopes: Scopes::default(), own: NoOwn {} })
    }
}

async fn an_evening() {
    let store = Arc::new(MemoryStore::new());
    let revocations = LiveRevocations::follow(store.clone()).await.expect("a view");
    let keys = IssuerKeys::generate().expect("keys");
    let plan = vorsel::AccessPlan::builder().role("operator", &[]).open("GET", "/health").need(
        "GET",
        "/domes/{dome}",
        "role operator",
    );
    let checker = Checker::new(keys.access.clone(), Expectations::access(ISSUER, AUDIENCE));
    let guard = Guard::<NoOwn>::builder(checker, plan.build().expect("a plan"));
    let guard = guard.revocations(revocations.clone(), Duration::from_secs(10), WhenSilent::GoOn).build();
    let router = Router::new().route("/health", get(async || "good")).route("/domes/{dome}", get(async || "shut"));
    let app = guard.expect("a guard").router(router).expect("an app");
    let sessions = Sessions::builder(ISSUER, AUDIENCE).keys(keys).store(store).admission(Arc::new(Everybody));
    let sessions = sessions.revocations(revocations).build().expect("sessions");

    let reply = sessions.start(SignIn::new("ope-0002", "desk")).await.expect("a session");
    assert!(sessions.start(SignIn::new("vis-0003", "desk")).await.is_err());
    let call = async |path: &str, token: &str| {
        let request = Request::builder().uri(path).header("authorization", format!("Bearer {token}"));
        app.clone().oneshot(request.body(Body::empty()).expect("a request")).await.expect("an answer").status().as_u16()
    };
    for _ in 0..3 {
        assert_eq!(call("/domes/north", &reply.access_token).await, 200);
    }
    assert_eq!(call("/domes/north", "no-token").await, 401);
    assert_eq!(call("/health", "no-token").await, 200);
    for number in 0..20 {
        assert_eq!(call(&format!("/scan/{number}"), &reply.access_token).await, 404);
    }
    assert!(sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.is_ok());
    assert!(sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.is_ok());
    sessions.sign_out(&reply.refresh_token, None).await.expect("an answer");
    assert_eq!(call("/domes/north", &reply.access_token).await, 401);
    assert!(sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.is_err());
}

/// Another issuer whose keys come once and then no more, one that can't be asked, and a client whose token endpoint is down.
async fn others() {
    let (signing, lab) = (key("k1"), Lab::open(&[]).await);
    lab.publishes(&[&signing]);
    let mut limits = RemoteLimits::default();
    (limits.least_kept, limits.longest_kept) = (Duration::from_millis(50), Duration::from_millis(100));
    let issuer = RemoteIssuer::builder(&lab.url, AUDIENCE).limits(limits).follow().expect("an issuer");
    assert!(issuer.ready_within(Duration::from_secs(5)).await);
    lab.becomes(Mood::Failing);
    let failed = async {
        while issuer.figures().failure.is_none() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(20), failed).await.expect("a fetch that fails");
    let asked =
        Introspection::builder("https://id.harbour.skarnhill.test", NOWHERE, AUDIENCE).secret("desk", "a secret");
    let plan = vorsel::AccessPlan::builder().need("GET", "/dome", "signed-in").build().expect("a plan");
    let guard: Guard<NoOwn> =
        Guard::builder(issuer, plan).introspect(asked.build().expect("an issuer")).build().expect("a guard");
    let request = Request::get("/dome").header("authorization", "Bearer an-opaque-token").body(()).expect("a request");
    assert!(guard.decide(&request, guard.now()).await.is_err());
    let keeper = TokenKeeper::builder(NOWHERE, "desk").build().expect("a keeper");
    keeper.begin(KeptTokens::new("expired", 0, "a refresh token", vorsel::now())).await;
    assert!(keeper.token().await.is_err());
}

#[test]
fn figures_say_what_came_of_requests_and_renewals_and_the_page_names_each() {
    let recorder = PrometheusBuilder::new().build_recorder();
    let handle = recorder.handle();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    metrics::with_local_recorder(&recorder, || {
        runtime.block_on(async {
            an_evening().await;
            others().await;
        });
    });
    let text = handle.render();
    for line in [
        "vorsel_decisions_total{method=\"GET\",route=\"/domes/{dome}\",code=\"passed\"} 3",
        "vorsel_decisions_total{method=\"GET\",route=\"/domes/{dome}\",code=\"malformed\"} 1",
        "vorsel_decisions_total{method=\"GET\",route=\"/domes/{dome}\",code=\"revoked\"} 1",
        "vorsel_decisions_total{method=\"GET\",route=\"/health\",code=\"passed\"} 1",
        // What a scanner asks for is no label.
        "vorsel_decisions_total{method=\"\",route=\"\",code=\"no-path\"} 20",
        "vorsel_checks_total{outcome=\"accepted\"} 1",
        "vorsel_checks_total{outcome=\"remembered\"} 23",
        "vorsel_checks_total{outcome=\"malformed\"} 2",
        "vorsel_sign_ins_total{outcome=\"started\"} 1",
        "vorsel_sign_ins_total{outcome=\"not-admitted\"} 1",
        "vorsel_renewals_total{outcome=\"renewed\"} 1",
        "vorsel_renewals_total{outcome=\"repeated\"} 1",
        "vorsel_store_seconds_count ",
        "vorsel_feed_read_timestamp_seconds{of=\"store\"} ",
        "vorsel_revocations_remembered{of=\"store\"} 1",
        "vorsel_issuer_keys_fetched_timestamp_seconds{issuer=\"http://127.0.0.1:",
        "vorsel_issuer_key_fetches_total{issuer=\"http://127.0.0.1:",
        "vorsel_introspections_total{issuer=\"https://id.harbour.skarnhill.test\",outcome=\"failed\"} 1",
        "vorsel_kept_token_renewals_total{client=\"desk\",outcome=\"unavailable\"} 1",
        "vorsel_key_published_timestamp_seconds{key=",
        "vorsel_key_signs_from_timestamp_seconds{key=",
    ] {
        assert!(text.lines().any(|known| known.starts_with(line)), "{line} is missing in\n{text}");
    }
    let page =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/operating.md")).expect("the page");
    for name in text.lines().filter_map(|line| line.strip_prefix("# TYPE ")) {
        let name = name.split(' ').next().expect("a name");
        assert!(page.contains(&format!("`{name}`")), "docs/operating.md does not name {name}");
    }
}
