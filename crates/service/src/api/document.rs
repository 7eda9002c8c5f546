//! The OpenAPI document, finished: what holds for every call is said of each.
//!
//! The types and the calls describe themselves where they stand; what a layer around all
//! of them does is added here.

use serde_json::{Map, Value, json};
use utoipa::openapi::OpenApi;

use crate::admission::OPEN;
use crate::answers;
use crate::precondition;
use crate::problem::PROBLEM;

const JSON: &str = "application/json";
/// Records that have a version, by how the path of a change begins.
const VERSIONED: [&str; 6] = ["accounts/{", "sites/{", "ingresses/{", "keys/{", "contests/{", "domains/{"];
/// Choices of a request, of which one is given and nothing beside it.
const CLOSED: [&str; 1] = ["Grant"];
/// Calls about a versioned record that change nothing that people have set.
const UNVERSIONED: [&str; 4] = ["/survey", "/rehearsal", "/preflight", "/handoffs"];

/// The document with what holds for every call.
pub(super) fn finished(described: &OpenApi) -> Value {
    let mut document = serde_json::to_value(described).unwrap_or_default();
    document["servers"] = json!([{ "url": "/", "description": "The service that has this document." }]);
    document["components"]["securitySchemes"] = json!({
        "key": { "type": "http", "scheme": "bearer", "description": "An access key." },
        "link": { "type": "http", "scheme": "bearer", "description": "The secret of a handoff link." },
        "session": {
            "type": "apiKey", "in": "cookie", "name": crate::access::COOKIE_NAME,
            "description": "A session of the console.",
        },
    });
    document["security"] = json!([{ "key": [] }, { "session": [] }]);
    document["components"]["headers"] = headers();
    document["components"]["parameters"] = parameters();

    let mut tags = Vec::new();
    if let Some(paths) = document["paths"].as_object_mut() {
        for (path, methods) in paths {
            let tag = path.trim_start_matches("/api/v1/").split('/').next().unwrap_or_default().to_owned();
            for (method, operation) in methods.as_object_mut().into_iter().flatten() {
                operation["tags"] = json!([tag]);
                finish(path, method, operation);
            }
            tags.push(tag);
        }
    }
    tags.sort();
    tags.dedup();
    complete(&mut document);
    for schema in CLOSED {
        close(&mut document["components"]["schemas"][schema]);
    }
    document["tags"] =
        tags.into_iter().map(|name| json!({ "description": about(&name), "name": name })).collect();
    document
}

/// Bounds that every text and number has, wherever it stands: no text has the character NUL,
/// and what is kept in 32 bits is no larger.
fn complete(schema: &mut Value) {
    match schema {
        Value::Object(fields) => {
            let is = |name: &str, word: &str| match fields.get(name) {
                Some(Value::String(one)) => one == word,
                Some(Value::Array(several)) => several.iter().any(|one| one == word),
                _ => false,
            };
            let is_open_text = is("type", "string")
                && ["format", "pattern", "enum", "in"].iter().all(|bound| !fields.contains_key(*bound));
            let is_small = is("format", "int32") && !fields.contains_key("maximum");

            if is_open_text {
                fields.insert("pattern".into(), json!("^[^\\x00]*$"));
            }
            if is_small {
                fields.insert("maximum".into(), json!(i32::MAX));
            }
            fields.values_mut().for_each(complete);
        }
        Value::Array(list) => list.iter_mut().for_each(complete),
        _ => {}
    }
}

/// Lets each of a schema's choices have its own fields alone.
fn close(schema: &mut Value) {
    for choice in schema["oneOf"].as_array_mut().into_iter().flatten() {
        if choice["type"] == "object" {
            choice["additionalProperties"] = json!(false);
        }
    }
}

/// What a group of calls is about.
fn about(tag: &str) -> &'static str {
    match tag {
        "accounts" => "Customers of the platform.",
        "certificates" => "The fleet's certificates.",
        "contests" => "Names that two accounts have proved.",
        "counts" => "The fleet in numbers.",
        "domains" => "Domains: the roster, and everything about one.",
        "edge" => "What the platform's edge servers need.",
        "events" => "Everything as it happens.",
        "findings" => "The catalogue of findings.",
        "handoff" => "What a customer sees, by a link.",
        "handoffs" => "Links by which customers see their domains.",
        "ingresses" => "Where traffic must land.",
        "keys" => "Access keys.",
        "session" => "Signing in to the console.",
        "sites" => "What domains show.",
        _ => "More of the service.",
    }
}

fn headers() -> Value {
    json!({
        "Link": {
            "description": "Where the next page is, if there is one (RFC 8288).",
            "schema": { "type": "string" },
        },
        "ETag": {
            "description": "The version of what people have set, for If-Match (RFC 9110, section 8.8.3).",
            "schema": { "type": "string" },
        },
        "Retry-After": {
            "description": "Seconds after which the same may be asked again.",
            "schema": { "type": "integer", "minimum": 0 },
        },
        "WWW-Authenticate": {
            "description": "How to show who is calling (RFC 6750, section 3).",
            "schema": { "type": "string" },
        },
    })
}

fn parameters() -> Value {
    json!({
        "IfMatch": {
            "name": "If-Match", "in": "header", "required": false,
            "description": "The ETag that was read, for a change of that version alone; or *.",
            "schema": { "type": "string", "maxLength": precondition::LONGEST },
        },
        "IdempotencyKey": {
            "name": "Idempotency-Key", "in": "header", "required": false,
            "description": "A key of this call: whoever repeats the call with it within a day gets the first answer.",
            "schema": { "type": "string", "minLength": 1, "maxLength": answers::LONGEST, "pattern": "^[!-~]+$" },
        },
    })
}

fn finish(path: &str, method: &str, operation: &mut Value) {
    let has_body = !operation["requestBody"].is_null();
    let is_open = OPEN.contains(&(path, method));
    let is_change = method != "get";
    let rest = path.trim_start_matches("/api/v1/");
    let is_versioned = is_change
        && VERSIONED.iter().any(|begin| rest.starts_with(begin))
        && !UNVERSIONED.iter().any(|end| rest.ends_with(end));

    if is_open {
        operation["security"] = json!([]);
    }
    if operation["description"].is_null() {
        operation["description"] = operation["summary"].clone();
    }
    let mut parameters = operation["parameters"].as_array().cloned().unwrap_or_default();
    for parameter in parameters.iter_mut().filter(|parameter| parameter["in"] == "path") {
        describe_part(parameter);
    }
    let has_query = parameters.iter().any(|parameter| parameter["in"] == "query");
    if is_versioned {
        parameters.push(json!({ "$ref": "#/components/parameters/IfMatch" }));
    }
    if method == "post" {
        parameters.push(json!({ "$ref": "#/components/parameters/IdempotencyKey" }));
    }
    if !parameters.is_empty() {
        operation["parameters"] = parameters.into();
    }

    let mut refusals = vec![
        (400, "The path or the query cannot be read, or the body is no JSON."),
        (429, "Too much was asked at once, or too many keys were tried."),
        (503, "Not to be had now."),
    ];
    if !is_open {
        refusals.extend([(401, "No key, or one that opens nothing."), (403, "The key's role is too small.")]);
    }
    if path.contains('{') {
        refusals.push((404, "There is no such record."));
    }
    if has_query || has_body || method == "post" || is_versioned {
        refusals.push((422, "A field or parameter cannot be taken as it is."));
    }
    if has_body || method == "post" {
        refusals.push((413, "The body is larger than what is read."));
    }
    if has_body {
        refusals.push((415, "The body is of a type that is not read."));
    }
    if is_change {
        refusals.push((409, "Not possible as it stands, or the same call is under way."));
    }
    if path.contains("{host}") {
        refusals.push((409, "Several accounts claim the name."));
    }
    if is_versioned {
        refusals.extend([(412, "Changed since it was read."), (428, "A change has to name its version.")]);
    }
    answer(path, method, operation, &refusals);
}

/// A part of the path is no empty text, and no longer than any name.
fn describe_part(parameter: &mut Value) {
    if parameter["schema"]["type"] == "string" && parameter["schema"]["format"].is_null() {
        parameter["schema"]["minLength"] = json!(1);
        parameter["schema"]["maxLength"] = json!(2000);
    }
}

fn answer(path: &str, method: &str, operation: &mut Value, refusals: &[(u16, &str)]) {
    let Some(responses) = operation["responses"].as_object_mut() else { return };
    for (status, response) in responses.iter_mut() {
        if status.starts_with('2') {
            grant(path, method, response);
        }
        if response["description"].as_str().is_none_or(str::is_empty) {
            response["description"] = json!(words(status));
        }
    }
    for (status, description) in refusals {
        let response = responses.entry(status.to_string()).or_insert_with(|| json!({}));
        response["description"] = json!(description);
    }
    for (status, response) in responses.iter_mut().filter(|(status, _)| status.starts_with(['4', '5'])) {
        refuse(status, response);
    }
}

/// Headers of what is granted.
fn grant(path: &str, method: &str, response: &mut Value) {
    let mut headers = Map::new();
    let schema = &response["content"][JSON]["schema"];
    if method == "get" && schema["type"] == "array" {
        headers.insert("Link".into(), json!({ "$ref": "#/components/headers/Link" }));
    }
    if ["Account", "Site", "Ingress", "Contest", "DomainDetail"].iter().any(|name| refers_to(schema, name)) {
        headers.insert("ETag".into(), json!({ "$ref": "#/components/headers/ETag" }));
    }
    if ["/api/v1/edge/feed", "/api/v1/handoff"].contains(&path) {
        headers.insert("ETag".into(), json!({ "$ref": "#/components/headers/ETag" }));
    }
    if !headers.is_empty() {
        response["headers"] = headers.into();
    }
}

fn refers_to(schema: &Value, name: &str) -> bool {
    schema["$ref"] == format!("#/components/schemas/{name}")
}

/// A problem document, with the headers that go with it.
fn refuse(status: &str, response: &mut Value) {
    response["content"] = json!({ PROBLEM: { "schema": { "$ref": "#/components/schemas/Problem" } } });
    match status {
        "401" => {
            response["headers"] =
                json!({ "WWW-Authenticate": { "$ref": "#/components/headers/WWW-Authenticate" } })
        }
        "503" | "409" | "429" => {
            response["headers"] = json!({ "Retry-After": { "$ref": "#/components/headers/Retry-After" } });
        }
        _ => {}
    }
}

/// What a status says by itself.
fn words(status: &str) -> &'static str {
    match status {
        "200" => "As asked.",
        "201" => "Made.",
        "202" => "Begun.",
        "204" => "Done.",
        "304" => "As it was.",
        _ => "Refused.",
    }
}
