//! The plan in an OpenAPI document ([OpenAPI 3.1](https://spec.openapis.org/oas/v3.1.1.html)): what each operation asks of its
//! caller, and where plan and document do not agree.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Map, Value, json};

use super::method::METHODS;
use super::pattern::PathPattern;
use super::table::{Access, AccessPlan, Names, Route};
use crate::credential::Credential;
use crate::rule::Rule;

/// What a document cannot be used for, and what would be right.
///
/// ```
/// let plan = vorsel_core::AccessPlan::builder().open("GET", "/health").build()?;
/// let error = plan.openapi_differences(&serde_json::json!({ "swagger": "2.0" })).unwrap_err();
/// assert_eq!(error.to_string(), "openapi: expected a document of OpenAPI 3.1, but found nothing");
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error("{place}: expected {expected}, but found {found}")]
pub struct OpenApiError {
    place: String,
    expected: &'static str,
    found: String,
}

readable_debug!(OpenApiError);

/// Where a plan and a document do not agree.
///
/// ```
/// let plan = vorsel_core::AccessPlan::builder().open("GET", "/health").build()?;
/// let document = serde_json::json!({ "openapi": "3.1.0", "paths": { "/dome": { "get": {} } } });
/// let differences = plan.openapi_differences(&document)?;
/// assert_eq!(differences.without_entry, [("GET".to_owned(), "/dome".to_owned())]);
/// assert_eq!(differences.without_operation, [("GET".to_owned(), "/health".to_owned())]);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct OpenApiDifferences {
    /// Operations, as method and path, that the plan has no entry for: they are refused.
    pub without_entry: Vec<(String, String)>,
    /// Entries of the plan, as method and path, that no operation goes by.
    pub without_operation: Vec<(String, String)>,
}

/// Which credentials a guard takes, for the document's security schemes.
///
/// ```
/// use vorsel_core::{AccessPlan, OpenApiCredentials};
///
/// let plan = AccessPlan::builder().need("POST", "/dome", "scope dome:move").build()?;
/// let mut document = serde_json::json!({ "openapi": "3.1.0", "paths": { "/dome": { "post": {} } } });
/// plan.write_openapi(&mut document, &OpenApiCredentials::default())?;
/// assert_eq!(document["paths"]["/dome"]["post"]["security"], serde_json::json!([{ "accessToken": ["dome:move"] }]));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct OpenApiCredentials {
    /// The cookie with an access token, if there is one.
    pub cookie: Option<String>,
    /// The header with an API key, if there is one.
    pub api_key_header: Option<String>,
    /// The query parameter with a ticket, if there is one. It is written where a rule asks for a ticket.
    pub ticket_parameter: Option<String>,
}

/// The names that are written into a document.
const BEARER: &str = "accessToken";
const COOKIE: &str = "accessTokenCookie";
const API_KEY: &str = "apiKey";
const TICKET: &str = "ticket";
const UNAUTHENTICATED: &str = "Unauthenticated";
const FORBIDDEN: &str = "Forbidden";
const PROBLEM: &str = "Problem";

/// More ways to fulfil a rule than this are not listed one by one.
const MOST_WAYS: usize = 8;

impl AccessPlan {
    /// Which operations of a document have no entry, and which entries no operation. An entry for a fallback needs none.
    ///
    /// # Errors
    /// If it is no OpenAPI 3.1 document, or refers to operations elsewhere.
    pub fn openapi_differences(&self, document: &Value) -> Result<OpenApiDifferences, OpenApiError> {
        let (mut differences, mut met) = (OpenApiDifferences::default(), BTreeSet::new());
        for (method, path) in operations(document)? {
            match self.entry_of(&method, &path) {
                Some((at, _)) => drop(met.insert(at)),
                None => differences.without_entry.push((method, path)),
            }
        }
        let left = self.routes.iter().enumerate().filter(|(at, route)| !met.contains(at) && !route.is_fallback());
        differences.without_operation = left.map(|(_, route)| (route.method.clone(), route.path.clone())).collect();
        Ok(differences)
    }

    /// Writes into a document the security schemes, what each operation asks of its caller with the scopes that it needs, and
    /// its answers 401 and 403. What stands there of it already is written anew; answers of the app's own stay. Nothing is told
    /// of a rule but scopes and kinds of credentials. An operation without an entry stays as it is.
    ///
    /// # Errors
    /// If it is no OpenAPI 3.1 document, or refers to operations elsewhere.
    pub fn write_openapi(&self, document: &mut Value, credentials: &OpenApiCredentials) -> Result<(), OpenApiError> {
        let all = operations(document)?;
        let named = |kind| match kind {
            Credential::Cookie => credentials.cookie.is_some(),
            Credential::ApiKey => credentials.api_key_header.is_some(),
            Credential::Ticket => credentials.ticket_parameter.is_some(),
            Credential::Bearer => true,
        };
        if let Some(kind) = self.credentials().iter().find(|kind| !named(*kind)) {
            let expected = match kind {
                Credential::Cookie => "the name of the cookie",
                Credential::Ticket => "the name of the query parameter",
                _ => "the name of the header",
            };
            let place = format!("credential {kind}, which the plan asks for");
            return Err(OpenApiError { place, expected, found: "none".to_owned() });
        }
        let base = base_path(document);
        let mut known = BTreeMap::new();
        for (method, path) in all {
            let Some((_, entry)) = self.entry_of(&method, &path) else { continue };
            let written = path.strip_prefix(&base).unwrap_or(&path);
            let operation = document["paths"][written].get_mut(method.to_lowercase()).and_then(Value::as_object_mut);
            if let Some(operation) = operation {
                self.write_operation(operation, entry, credentials, &mut known);
            }
        }
        let components = object_in(document, "components");
        let schemes = object_in(components, "securitySchemes");
        schemes[BEARER] = json!({ "type": "http", "scheme": "bearer", "bearerFormat": "JWT" });
        if let Some(name) = &credentials.cookie {
            schemes[COOKIE] = json!({ "type": "apiKey", "in": "cookie", "name": name });
        }
        if let Some(name) = &credentials.api_key_header {
            schemes[API_KEY] = json!({ "type": "apiKey", "in": "header", "name": name });
        }
        if let Some(name) = &credentials.ticket_parameter {
            schemes[TICKET] = json!({ "type": "apiKey", "in": "query", "name": name });
        }
        let responses = object_in(components, "responses");
        let problem =
            json!({ "application/problem+json": { "schema": { "$ref": format!("#/components/schemas/{PROBLEM}") } } });
        let challenge = json!({ "WWW-Authenticate": { "description": "What would be accepted (RFC 6750 section 3).", "schema": { "type": "string" } } });
        responses[UNAUTHENTICATED] = json!({
            "description": "The request has no credential, or one that is not accepted.",
            "headers": challenge,
            "content": problem,
        });
        responses[FORBIDDEN] = json!({
            "description": "The caller is known, and may not do this.",
            "headers": challenge,
            "content": problem,
        });
        object_in(components, "schemas")[PROBLEM] = json!({
            "description": "A problem (RFC 9457).",
            "type": "object",
            "properties": {
                "status": { "type": "integer" },
                "title": { "type": "string" },
                "detail": { "type": "string" },
            },
        });
        Ok(())
    }

    fn write_operation<'p>(
        &'p self,
        operation: &mut Map<String, Value>,
        entry: &'p Route,
        credentials: &OpenApiCredentials,
        known: &mut BTreeMap<&'p str, Vec<Way>>,
    ) {
        let (security, is_open, can_be_refused) = match &entry.access {
            Access::Open => (Vec::new(), true, false),
            Access::Need(rule) => (self.security(rule, credentials, known), false, *rule != Rule::SignedIn),
        };
        operation.insert("security".to_owned(), Value::Array(security));
        let responses = operation.entry("responses").or_insert_with(|| json!({}));
        let Some(responses) = responses.as_object_mut() else { return };
        for (status, name, is_due) in [("401", UNAUTHENTICATED, !is_open), ("403", FORBIDDEN, can_be_refused)] {
            let ours = json!({ "$ref": format!("#/components/responses/{name}") });
            match (responses.get(status), is_due) {
                (None, true) => drop(responses.insert(status.to_owned(), ours)),
                (Some(there), false) if *there == ours => drop(responses.remove(status)),
                _ => {}
            }
        }
    }

    /// The ways to be let in, each as the schemes it takes, with the scopes.
    fn security<'p>(
        &'p self,
        rule: &'p Rule,
        credentials: &OpenApiCredentials,
        known: &mut BTreeMap<&'p str, Vec<Way>>,
    ) -> Vec<Value> {
        let mut ways = Way::of(rule, &self.names, known, 0);
        if ways.len() > MOST_WAYS {
            ways = vec![Way::common(&ways)];
        }
        let mut written: Vec<Value> = Vec::new();
        for way in &ways {
            for requirement in way.requirements(credentials) {
                if !written.contains(&requirement) {
                    written.push(requirement);
                }
            }
        }
        if written.is_empty() {
            // No list would say that anybody is let in.
            written.push(json!({ BEARER: [] }));
        }
        written
    }

    /// The entry that an operation goes by.
    fn entry_of(&self, method: &str, path: &str) -> Option<(usize, &Route)> {
        let found = self.route_of(method, &PathPattern::read(path).example())?;
        let at = self.routes.iter().position(|route| std::ptr::eq(route, found))?;
        (!found.is_fallback()).then_some((at, found))
    }
}

/// One way to fulfil a rule, of which only scopes and credentials count.
#[derive(Clone, Default, PartialEq)]
struct Way {
    scopes: BTreeSet<String>,
    with: BTreeSet<Credential>,
    without: BTreeSet<Credential>,
}

impl Way {
    /// Policies in policies are followed this far; a plan has none that ask for themselves.
    const DEEPEST: usize = 1_000;

    /// `known` has the policies that were gone through: one that stands in many places is that only once.
    fn of<'p>(rule: &'p Rule, names: &'p Names, known: &mut BTreeMap<&'p str, Vec<Self>>, depth: usize) -> Vec<Self> {
        let one = |way: Self| vec![way];
        match rule {
            _ if depth > Self::DEEPEST => one(Self::default()),
            Rule::Scope(scope) => one(Self { scopes: [scope.clone()].into(), ..Self::default() }),
            Rule::Credential(kind) => one(Self { with: [*kind].into(), ..Self::default() }),
            Rule::Not(inner) => match &**inner {
                Rule::Credential(kind) => one(Self { without: [*kind].into(), ..Self::default() }),
                _ => one(Self::default()),
            },
            Rule::Policy(name) => {
                if let Some(ways) = known.get(name.as_str()) {
                    return ways.clone();
                }
                let Some(policy) = names.policies.get(name) else { return one(Self::default()) };
                let ways = Self::of(policy, names, known, depth + 1);
                known.insert(name, ways.clone());
                ways
            }
            Rule::Any(rules) => {
                let mut ways = Vec::new();
                for way in rules.iter().flat_map(|rule| Self::of(rule, names, known, depth + 1)) {
                    if !ways.contains(&way) {
                        ways.push(way);
                    }
                }
                if ways.len() > MOST_WAYS { one(Self::common(&ways)) } else { ways }
            }
            Rule::All(rules) => rules.iter().fold(one(Self::default()), |ways, rule| {
                let more = Self::of(rule, names, known, depth + 1);
                let both = ways.iter().flat_map(|way| more.iter().map(|other| way.and(other)));
                let both: Vec<_> = both.collect();
                if both.len() > MOST_WAYS { one(Self::common(&both)) } else { both }
            }),
            _ => one(Self::default()),
        }
    }

    fn and(&self, other: &Self) -> Self {
        Self {
            scopes: &self.scopes | &other.scopes,
            with: &self.with | &other.with,
            without: &self.without | &other.without,
        }
    }

    /// What all ways ask for.
    fn common(ways: &[Self]) -> Self {
        let both = |one: Self, other: &Self| Self {
            scopes: &one.scopes & &other.scopes,
            with: &one.with & &other.with,
            without: &one.without & &other.without,
        };
        ways.iter().skip(1).fold(ways.first().cloned().unwrap_or_default(), both)
    }

    /// The security requirement objects for it: one with everything that it asks for, or one for each credential that will do.
    fn requirements(&self, credentials: &OpenApiCredentials) -> Vec<Value> {
        let known = |kind: Credential| match kind {
            Credential::Cookie => credentials.cookie.as_ref().map(|_| COOKIE),
            Credential::ApiKey => credentials.api_key_header.as_ref().map(|_| API_KEY),
            Credential::Ticket => credentials.ticket_parameter.as_ref().map(|_| TICKET),
            Credential::Bearer => Some(BEARER),
        };
        // The scopes are those of a token; a key has them from the app.
        let scheme = |kind: Credential, name: &str| {
            let scopes = if kind == Credential::ApiKey { json!([]) } else { json!(self.scopes) };
            (name.to_owned(), scopes)
        };
        if !self.with.is_empty() {
            let all = self.with.iter().filter_map(|kind| Some(scheme(*kind, known(*kind)?)));
            return vec![Value::Object(all.collect())];
        }
        [Credential::Bearer, Credential::Cookie, Credential::ApiKey]
            .into_iter()
            .filter(|kind| !self.without.contains(kind))
            .filter_map(|kind| Some(Value::Object([scheme(kind, known(kind)?)].into_iter().collect())))
            .collect()
    }
}

/// The member of that name, an object; what else stands there is replaced.
fn object_in<'v>(value: &'v mut Value, name: &str) -> &'v mut Value {
    let member = &mut value[name];
    if !member.is_object() {
        *member = json!({});
    }
    member
}

fn shown(value: Option<&Value>) -> String {
    match value {
        None => "nothing".to_owned(),
        Some(Value::String(text)) => crate::finding::quoted(text),
        Some(Value::Array(_)) => "a list".to_owned(),
        Some(Value::Object(_)) => "an object".to_owned(),
        Some(other) => other.to_string(),
    }
}

/// The path that the first server's address begins all paths with.
fn base_path(document: &Value) -> String {
    let url = document["servers"][0]["url"].as_str().unwrap_or_default();
    let path = match url.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or("", |at| &rest[at..]),
        None => url,
    };
    path.trim_end_matches('/').to_owned()
}

/// Every operation as its method and its whole path.
fn operations(document: &Value) -> Result<Vec<(String, String)>, OpenApiError> {
    let wrong = |place: &str, expected, found: Option<&Value>| {
        Err(OpenApiError { place: place.to_owned(), expected, found: shown(found) })
    };
    let version = document.get("openapi");
    if !version.and_then(Value::as_str).is_some_and(|version| version.starts_with("3.1.")) {
        return wrong("openapi", "a document of OpenAPI 3.1", version);
    }
    let Some(paths) = document.get("paths").and_then(Value::as_object) else {
        return wrong("paths", "an object with the paths", document.get("paths"));
    };
    let base = base_path(document);
    let mut all = Vec::new();
    for (path, item) in paths.iter().filter(|(path, _)| !path.starts_with("x-")) {
        let place = format!("paths.{path}");
        let Some(members) = item.as_object() else { return wrong(&place, "an object with operations", Some(item)) };
        if let Some(reference) = members.get("$ref") {
            return wrong(&place, "the operations themselves", Some(reference));
        }
        if !path.starts_with('/') {
            return wrong(&place, "a path that begins with \"/\"", Some(&Value::String(path.clone())));
        }
        for method in METHODS.into_iter().filter(|method| *method != "CONNECT") {
            match members.get(&method.to_lowercase()) {
                None => {}
                Some(Value::Object(_)) => all.push((method.to_owned(), format!("{base}{path}"))),
                Some(other) => {
                    return wrong(&format!("{place}.{}", method.to_lowercase()), "an operation", Some(other));
                }
            }
        }
    }
    Ok(all)
}
