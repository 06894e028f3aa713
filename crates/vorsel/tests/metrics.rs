//! What the figures say, as an exporter shows them; and that the page about them names each.

use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::routing::get;
use http::Request;
use metrics_exporter_prometheus::PrometheusBuilder;
use tower::ServiceExt;
use vorsel::store::MemoryStore;
use vorsel::{
    Admission, AdmissionError, Checker, Expectations, Grant, Guard, IssuerKeys, LiveRevocations, NoOwn, RenewalRequest,
    Scopes, Sessions, SignIn, WhenSilent,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";

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
    let guard = guard.revocations(revocations.clone(), std::time::Duration::from_secs(10), WhenSilent::GoOn).build();
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
    assert!(sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.is_err());
}

#[test]
fn figures_say_what_came_of_requests_and_renewals_and_the_page_names_each() {
    let recorder = PrometheusBuilder::new().build_recorder();
    let handle = recorder.handle();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    metrics::with_local_recorder(&recorder, || runtime.block_on(an_evening()));
    let text = handle.render();
    for line in [
        "vorsel_decisions_total{method=\"GET\",route=\"/domes/{dome}\",code=\"passed\"} 3",
        "vorsel_decisions_total{method=\"GET\",route=\"/domes/{dome}\",code=\"malformed\"} 1",
        "vorsel_decisions_total{method=\"GET\",route=\"/health\",code=\"passed\"} 1",
        // What a scanner asks for is no label.
        "vorsel_decisions_total{method=\"\",route=\"\",code=\"no-path\"} 20",
        "vorsel_checks_total{outcome=\"accepted\"} 1",
        "vorsel_checks_total{outcome=\"remembered\"} 22",
        "vorsel_checks_total{outcome=\"malformed\"} 2",
        "vorsel_sign_ins_total{outcome=\"started\"} 1",
        "vorsel_sign_ins_total{outcome=\"not-admitted\"} 1",
        "vorsel_renewals_total{outcome=\"renewed\"} 1",
        "vorsel_renewals_total{outcome=\"repeated\"} 1",
        "vorsel_store_seconds_count ",
        "vorsel_feed_read_timestamp_seconds ",
        "vorsel_revocations_remembered 1",
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
