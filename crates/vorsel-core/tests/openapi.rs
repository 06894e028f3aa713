//! The plan in an OpenAPI document: what is written, what stays, and where both differ.

use serde_json::{Value, json};
use vorsel_core::{AccessPlan, OpenApiCredentials, PlanBuilder};

fn plan() -> PlanBuilder {
    AccessPlan::builder().role("operator", &[]).role("director", &["operator"])
}

fn document(operations: &[(&str, &str)]) -> Value {
    let mut paths = json!({});
    for (method, path) in operations {
        paths[path][method.to_lowercase()] = json!({ "responses": { "200": { "description": "Fine" } } });
    }
    json!({ "openapi": "3.1.0", "info": { "title": "Hill", "version": "1" }, "paths": paths })
}

fn credentials(cookie: bool, api_key: bool) -> OpenApiCredentials {
    let mut credentials = OpenApiCredentials::default();
    credentials.cookie = cookie.then(|| "night".to_owned());
    credentials.api_key_header = api_key.then(|| "x-instrument-key".to_owned());
    credentials
}

/// What is written of one rule.
fn security(rule: &str, known: &OpenApiCredentials) -> Value {
    let plan = plan().policy("crew", "role operator and scope dome:move").policy("either", "scope a or scope b");
    let plan = plan.need("GET", "/dome", rule).build().unwrap_or_else(|error| panic!("{rule}: {error}"));
    let mut document = document(&[("GET", "/dome")]);
    plan.write_openapi(&mut document, known).unwrap_or_else(|error| panic!("{rule}: {error}"));
    document["paths"]["/dome"]["get"]["security"].clone()
}

#[test]
fn each_rule_becomes_the_ways_to_fulfil_it() {
    let bearer = |scopes: &[&str]| json!({ "accessToken": scopes });
    let tokens = credentials(false, false);
    for (rule, ways) in [
        ("signed-in", json!([bearer(&[])])),
        ("role operator", json!([bearer(&[])])),
        ("scope dome:move", json!([bearer(&["dome:move"])])),
        ("policy crew", json!([bearer(&["dome:move"])])),
        ("policy crew and scope logs:read", json!([bearer(&["dome:move", "logs:read"])])),
        ("policy either", json!([bearer(&["a"]), bearer(&["b"])])),
        ("policy either and scope c", json!([bearer(&["a", "c"]), bearer(&["b", "c"])])),
        ("scope a or role director", json!([bearer(&["a"]), bearer(&[])])),
        ("not scope a", json!([bearer(&[])])),
        ("not (scope a and scope b)", json!([bearer(&[])])),
        ("scope a and (scope b or claims.training >= 3)", json!([bearer(&["a", "b"]), bearer(&["a"])])),
        // More ways than anybody reads: what they have in common.
        (
            "scope z and (scope a or scope b or scope c or scope d or scope e or scope f or scope g or scope h or scope i)",
            json!([bearer(&["z"])]),
        ),
    ] {
        assert_eq!(security(rule, &tokens), ways, "{rule}");
    }
    let all = credentials(true, true);
    for (rule, ways) in [
        ("scope a", json!([{ "accessToken": ["a"] }, { "accessTokenCookie": ["a"] }, { "apiKey": [] }])),
        ("credential api-key", json!([{ "apiKey": [] }])),
        ("credential api-key and credential bearer", json!([{ "accessToken": [], "apiKey": [] }])),
        ("credential bearer and scope a", json!([{ "accessToken": ["a"] }])),
        ("not credential cookie", json!([{ "accessToken": [] }, { "apiKey": [] }])),
        ("credential api-key or credential cookie", json!([{ "apiKey": [] }, { "accessTokenCookie": [] }])),
    ] {
        assert_eq!(security(rule, &all), ways, "{rule}");
    }
    // No list would say that anybody is let in.
    assert_eq!(security("not credential bearer and signed-in", &tokens), json!([{ "accessToken": [] }]));
}

#[test]
fn what_is_written_twice_is_the_same_and_what_the_app_says_stays() {
    let plan =
        plan().open("GET", "/health").need("GET", "/me", "signed-in").need("POST", "/domes/{dome}", "role operator");
    let plan = plan.need("DELETE", "/files/{*path}", "role director").build().expect("a plan");
    let mut document = document(&[
        ("GET", "/health"),
        ("GET", "/me"),
        ("POST", "/domes/{name}"),
        ("DELETE", "/files/{path}"),
        ("GET", "/unknown"),
    ]);
    document["paths"]["/me"]["get"]["responses"]["401"] = json!({ "description": "The app's own words" });
    document["paths"]["/me"]["get"]["x-owner"] = json!("night crew");
    document["components"] = json!({ "schemas": { "Dome": { "type": "object" } }, "securitySchemes": { "other": { "type": "http", "scheme": "basic" } } });
    let unknown = document["paths"]["/unknown"].clone();
    plan.write_openapi(&mut document, &credentials(false, false)).expect("written");
    let operation = |path: &str, method: &str| document["paths"][path][method].clone();
    assert_eq!(operation("/health", "get")["security"], json!([]));
    assert!(operation("/health", "get")["responses"].get("401").is_none());
    assert_eq!(operation("/me", "get")["responses"]["401"]["description"], "The app's own words");
    assert_eq!(operation("/me", "get")["x-owner"], "night crew");
    assert!(operation("/me", "get")["responses"].get("403").is_none(), "whoever is signed in gets in");
    for (path, method) in [("/domes/{name}", "post"), ("/files/{path}", "delete")] {
        let responses = &operation(path, method)["responses"];
        assert_eq!(responses["401"]["$ref"], "#/components/responses/Unauthenticated");
        assert_eq!(responses["403"]["$ref"], "#/components/responses/Forbidden");
        assert_eq!(responses["200"]["description"], "Fine");
    }
    assert_eq!(document["paths"]["/unknown"], unknown);
    assert_eq!(document["components"]["schemas"]["Dome"]["type"], "object");
    assert_eq!(document["components"]["securitySchemes"]["other"]["scheme"], "basic");
    assert!(!document.to_string().contains("director"), "of a rule nothing is told but scopes and credentials");

    let mut again = document.clone();
    plan.write_openapi(&mut again, &credentials(false, false)).expect("written");
    assert_eq!(again, document);
    // A route that becomes open loses the answers that were written, and no others.
    let open = AccessPlan::builder().open("GET", "/me").open("POST", "/domes/{dome}").build().expect("a plan");
    open.write_openapi(&mut again, &credentials(false, false)).expect("written");
    assert!(again["paths"]["/domes/{name}"]["post"]["responses"].get("403").is_none());
    assert_eq!(again["paths"]["/me"]["get"]["responses"]["401"]["description"], "The app's own words");
}

#[test]
fn plan_and_document_are_held_against_each_other() {
    let plan = plan()
        .open("GET", "/v1/health")
        .need("GET", "/v1/me", "signed-in")
        .open_fallback("GET", "/")
        .build()
        .expect("a plan");
    let mut document = document(&[("GET", "/health"), ("HEAD", "/health"), ("POST", "/me"), ("GET", "/style.css")]);
    for url in ["/v1", "https://api.skarnhill.test/v1/"] {
        document["servers"] = json!([{ "url": url }]);
        let differences = plan.openapi_differences(&document).expect("a document");
        let pair = |method: &str, path: &str| (method.to_owned(), path.to_owned());
        // A fallback covers no operation.
        assert_eq!(differences.without_entry, [pair("POST", "/v1/me"), pair("GET", "/v1/style.css")], "{url}");
        assert_eq!(differences.without_operation, [pair("GET", "/v1/me")], "{url}");
    }
    let demo = AccessPlan::read(include_str!("../../../demo/access.toml"), "demo").expect("a plan");
    let document: Value = serde_json::from_str(include_str!("../../../demo/openapi.json")).expect("JSON");
    assert_eq!(demo.openapi_differences(&document).expect("a document"), Default::default());
    let mut written = document.clone();
    demo.write_openapi(&mut written, &credentials(false, true)).expect("written");
    assert_eq!(written, document, "demo/openapi.json is what `vorsel plan openapi` writes");
}

#[test]
fn documents_that_are_none_are_refused_with_what_would_be_right() {
    let plan = plan().need("GET", "/dome", "credential api-key").build().expect("a plan");
    for (document, message) in [
        (json!([]), "openapi: expected a document of OpenAPI 3.1, but found nothing"),
        (
            json!({ "openapi": "3.0.3", "paths": {} }),
            "openapi: expected a document of OpenAPI 3.1, but found \"3.0.3\"",
        ),
        (json!({ "openapi": "3.1.0" }), "paths: expected an object with the paths, but found nothing"),
        (json!({ "openapi": "3.1.0", "paths": [] }), "paths: expected an object with the paths, but found a list"),
        (
            json!({ "openapi": "3.1.0", "paths": { "/a": 7 } }),
            "paths./a: expected an object with operations, but found 7",
        ),
        (json!({ "openapi": "3.1.0", "paths": { "a": {} } }), "paths.a: expected a path that begins with \"/\""),
        (
            json!({ "openapi": "3.1.0", "paths": { "/a": { "$ref": "b.json" } } }),
            "paths./a: expected the operations themselves, but found \"b.json\"",
        ),
        (
            json!({ "openapi": "3.1.0", "paths": { "/a": { "get": [] } } }),
            "paths./a.get: expected an operation, but found a list",
        ),
        (
            json!({ "openapi": "3.1.0", "paths": {} }),
            "credential api-key, which the plan asks for: expected the name of the header, but found none",
        ),
    ] {
        let error = plan.write_openapi(&mut document.clone(), &credentials(false, false)).expect_err(message);
        assert!(error.to_string().starts_with(message), "{error}");
    }
    let mut odd = json!({ "openapi": "3.1.0", "paths": { "/dome": { "get": { "responses": 7, "security": "x" } } }, "components": 7 });
    plan.write_openapi(&mut odd, &credentials(false, true)).expect("written");
    assert_eq!(odd["components"]["securitySchemes"]["apiKey"]["name"], "x-instrument-key");
}

/// Written out, the last of them would have more parts than there are atoms.
#[test]
fn policies_that_name_others_twice_are_gone_through_once() {
    let mut plan = plan().policy("p0", "scope a or scope b");
    for number in 1..200 {
        let one = number - 1;
        plan = plan.policy(&format!("p{number}"), format!("policy p{one} and policy p{one}").as_str());
    }
    let plan = plan.need("GET", "/dome", "policy p199").build().expect("a plan");
    let mut document = document(&[("GET", "/dome")]);
    plan.write_openapi(&mut document, &credentials(false, false)).expect("written");
    assert!(document["paths"]["/dome"]["get"]["security"].is_array());
}
