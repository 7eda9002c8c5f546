//! What the OpenAPI document says, held to: a call is checked against its own description
//! before it is looked into, so that the document and the service cannot differ.

use std::collections::{BTreeMap, HashMap};

use axum::extract::{MatchedPath, Request};
use axum::http::{Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use jsonschema::ValidationError;
use jsonschema::ValidatorMap;
use jsonschema::error::{TypeKind, ValidationErrorKind};
use nomenta_api::problem::{FieldCode, ProblemKind};
use nomenta_core::name::plain::shown;
use serde_json::{Map, Value, json};

use crate::problem::Refusal;

/// Longest value of an enum's list that a message repeats.
const MOST_WORDS: usize = 24;

/// The calls as they are described.
pub(crate) struct Described {
    /// Every schema, by the place that calls name.
    schemas: Value,
    validators: ValidatorMap,
    calls: HashMap<(Method, String), Call>,
}

/// What one call takes.
#[derive(Debug, Default)]
struct Call {
    /// Query parameters: how each is read, and where its schema is.
    parameters: BTreeMap<String, Parameter>,
    /// Where the schema of its body is, if it takes JSON.
    body: Option<String>,
}

#[derive(Debug)]
struct Parameter {
    kind: ParameterKind,
    schema: String,
}

#[derive(Clone, Copy, Debug)]
enum ParameterKind {
    Text,
    Number,
    Truth,
}

impl Described {
    /// Reads the document.
    ///
    /// # Errors
    /// If it is no sound document, which is a mistake of the code.
    pub(crate) fn read(document: &Value) -> anyhow::Result<Self> {
        let mut definitions = Map::new();
        for (name, schema) in document["components"]["schemas"].as_object().into_iter().flatten() {
            definitions.insert(name.clone(), schema.clone());
        }

        let mut calls = HashMap::new();
        for (path, methods) in document["paths"].as_object().into_iter().flatten() {
            for (method, operation) in methods.as_object().into_iter().flatten() {
                let method: Method = method.to_uppercase().parse()?;
                let call = Call::read(&format!("{method} {path}"), operation, &mut definitions);
                calls.insert((method, path.clone()), call);
            }
        }

        let mut whole = json!({ "$defs": definitions });
        lead_to_definitions(&mut whole);
        let validators = jsonschema::options().should_validate_formats(true).build_map(&whole);
        let validators = validators.map_err(|error| anyhow::anyhow!("{error}"))?;
        Ok(Self { schemas: whole, validators, calls })
    }

    /// Holds the query of a call to its description.
    ///
    /// # Errors
    /// At the parameter that is unknown, given twice, or not as it is described.
    pub(crate) fn check_query(&self, method: &Method, path: &str, query: &str) -> Result<(), Refusal> {
        let Some(call) = self.calls.get(&(method.clone(), path.to_owned())) else { return Ok(()) };
        let mut seen = Vec::new();
        for (name, value) in pairs(query)? {
            let Some(parameter) = call.parameters.get(&name) else {
                return Err(unknown_parameter(&name, call));
            };
            if seen.contains(&name) {
                let message = format!("{name} is given twice. Give it once.");
                return Err(Refusal::field(&name, FieldCode::Repeated, message));
            }
            let value = parameter.kind.read(&value);
            self.validate(&parameter.schema, &value, &name)?;
            seen.push(name);
        }
        Ok(())
    }

    /// Holds a body to its description.
    ///
    /// # Errors
    /// At the field that is unknown, missing, or not as it is described.
    pub(crate) fn check_body(&self, method: &Method, path: &str, body: &Value) -> Result<(), Refusal> {
        let call = self.calls.get(&(method.clone(), path.to_owned()));
        match call.and_then(|call| call.body.as_deref()) {
            Some(schema) => self.validate(schema, body, "body"),
            None => Ok(()),
        }
    }

    fn validate(&self, schema: &str, value: &Value, whole: &str) -> Result<(), Refusal> {
        refuse_nul(value, whole)?;
        let Some(validator) = self.validators.get(schema) else { return Ok(()) };
        match validator.validate(value) {
            Ok(()) => Ok(()),
            Err(error) => Err(refused(&error, whole, |field| self.told(schema, field))),
        }
    }

    /// What is said of a field of a schema.
    fn told(&self, schema: &str, field: &str) -> Option<&str> {
        let mut at = self.schemas.pointer(schema.trim_start_matches('#'))?;
        while let Some(next) = at["$ref"].as_str() {
            at = self.schemas.pointer(next.trim_start_matches('#'))?;
        }
        at["properties"][field]["description"].as_str()
    }
}

impl Call {
    fn read(name: &str, operation: &Value, definitions: &mut Map<String, Value>) -> Self {
        let mut parameters = BTreeMap::new();
        for parameter in operation["parameters"].as_array().into_iter().flatten() {
            if let (Some("query"), Some(field)) = (parameter["in"].as_str(), parameter["name"].as_str()) {
                let key = key(&format!("{name} {field}"));
                definitions.insert(key.clone(), parameter["schema"].clone());
                let kind = ParameterKind::of(&parameter["schema"]);
                parameters.insert(field.to_owned(), Parameter { kind, schema: place(&key) });
            }
        }

        let body = &operation["requestBody"]["content"]["application/json"]["schema"];
        let body = (!body.is_null()).then(|| {
            let key = key(&format!("{name} body"));
            definitions.insert(key.clone(), body.clone());
            place(&key)
        });
        Self { parameters, body }
    }
}

/// A name that is a step of a JSON pointer as it stands.
fn key(name: &str) -> String {
    name.replace(|letter: char| !letter.is_ascii_alphanumeric(), "_")
}

fn place(key: &str) -> String {
    format!("#/$defs/{key}")
}

/// Where the document refers to its components, they are definitions here.
fn lead_to_definitions(schema: &mut Value) {
    match schema {
        Value::Object(fields) => {
            if let Some(Value::String(to)) = fields.get_mut("$ref") {
                *to = to.replace("#/components/schemas/", "#/$defs/");
            }
            fields.values_mut().for_each(lead_to_definitions);
        }
        Value::Array(list) => list.iter_mut().for_each(lead_to_definitions),
        _ => {}
    }
}

impl ParameterKind {
    fn of(schema: &Value) -> Self {
        let has = |kind: &str| match &schema["type"] {
            Value::String(one) => one == kind,
            Value::Array(several) => several.iter().any(|one| one == kind),
            _ => false,
        };
        match (has("integer"), has("boolean")) {
            (true, _) => Self::Number,
            (_, true) => Self::Truth,
            _ => Self::Text,
        }
    }

    /// What a text stands for; what it does not stand for is found by the schema.
    fn read(self, text: &str) -> Value {
        let read = match self {
            Self::Text => None,
            Self::Number => text.parse::<i64>().ok().map(Value::from),
            Self::Truth => text.parse::<bool>().ok().map(Value::from),
        };
        read.unwrap_or_else(|| Value::from(text))
    }
}

/// The parameters of a query, each octet in its place.
fn pairs(query: &str) -> Result<Vec<(String, String)>, Refusal> {
    let is_sound = percent_encoding_is_sound(query);
    let read = is_sound.then(|| serde_urlencoded::from_str(query).ok()).flatten();
    read.ok_or_else(|| {
        let detail =
            "The query is no UTF-8 text in percent-encoding (RFC 3986, section 2.1). Encode it anew.";
        Refusal::new(StatusCode::BAD_REQUEST, ProblemKind::Query, detail)
    })
}

/// Whether every percent sign begins an octet, and the octets make a text.
pub(crate) fn percent_encoding_is_sound(text: &str) -> bool {
    let mut octets = Vec::new();
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        if byte != b'%' {
            octets.push(byte);
            continue;
        }
        let digit = |byte: Option<u8>| byte.and_then(|byte| char::from(byte).to_digit(16));
        let (Some(high), Some(low)) = (digit(rest.next()), digit(rest.next())) else { return false };
        octets.push(u8::try_from(high * 16 + low).unwrap_or_default());
    }
    std::str::from_utf8(&octets).is_ok()
}

fn unknown_parameter(name: &str, call: &Call) -> Refusal {
    let known: Vec<_> = call.parameters.keys().map(String::as_str).collect();
    let known =
        if known.is_empty() { "There are none here".to_owned() } else { format!("Use {}", known.join(", ")) };
    let message = format!("There is no parameter {}. {known}.", shown(name));
    let Refusal { problem, .. } = Refusal::field(&shown(name), FieldCode::Unknown, message);
    Refusal::from_problem(problem)
}

/// NUL is no character of any text here, names of fields among them, and the database keeps none.
fn refuse_nul(value: &Value, at: &str) -> Result<(), Refusal> {
    let refuse_in = |text: &str, at: &str| {
        if !text.contains('\0') {
            return Ok(());
        }
        let message = "The text has the character NUL (U+0000). Take it out.";
        Err(Refusal::field(at, FieldCode::Character, message))
    };

    match value {
        Value::String(text) => refuse_in(text, at),
        Value::Array(list) => list.iter().try_for_each(|one| refuse_nul(one, at)),
        Value::Object(fields) => fields.iter().try_for_each(|(name, one)| {
            // What is told has none either, whatever the name.
            let told = shown(name);
            refuse_in(name, &told)?;
            refuse_nul(one, &told)
        }),
        _ => Ok(()),
    }
}

/// Said of what is not as it is described, at its field.
fn refused<'a>(error: &ValidationError<'_>, whole: &str, told: impl Fn(&str) -> Option<&'a str>) -> Refusal {
    let path = error.instance_path().to_string();
    let field = path.trim_start_matches('/').split('/').next().filter(|field| !field.is_empty());
    let field = field.unwrap_or(whole).to_owned();

    let (field, code, message) = match error.kind() {
        ValidationErrorKind::Required { property } => {
            let property = property.as_str().unwrap_or_default().to_owned();
            let message = format!("{property} is missing. {}", belongs(told(&property)));
            (property, FieldCode::Missing, message)
        }
        ValidationErrorKind::AdditionalProperties { unexpected } => {
            let unknown = shown(unexpected.first().map_or("", String::as_str));
            let message = format!("There is no field {unknown} here. Leave it out.");
            (unknown, FieldCode::Unknown, message)
        }
        ValidationErrorKind::MaxLength { limit } => {
            let message = format!("{field} is longer than {limit} characters. Make it shorter.");
            (field, FieldCode::TooLarge, message)
        }
        ValidationErrorKind::MinLength { .. } => {
            let message = format!("{field} is empty or too short. {}", belongs(told(&field)));
            (field, FieldCode::Empty, message)
        }
        ValidationErrorKind::MaxItems { limit } => {
            let message = format!("{field} has more than {limit} entries. Give fewer.");
            (field, FieldCode::TooLarge, message)
        }
        ValidationErrorKind::MinItems { limit } => {
            let message = format!("{field} has fewer than {limit} entries. Give more.");
            (field, FieldCode::Empty, message)
        }
        ValidationErrorKind::Minimum { limit } => {
            let message = format!("{field} is less than {limit}, the least that is taken.");
            (field, FieldCode::OutOfRange, message)
        }
        ValidationErrorKind::Maximum { limit } => {
            let message = format!("{field} is more than {limit}, the most that is taken.");
            (field, FieldCode::OutOfRange, message)
        }
        ValidationErrorKind::Enum { options } => {
            let message = format!("{field} has a word that is not known. Use one of: {}.", words(options));
            (field, FieldCode::UnknownWord, message)
        }
        ValidationErrorKind::Pattern { .. } => {
            let message = format!(
                "{field} has a character that it cannot have, or no other. {}",
                belongs(told(&field))
            );
            (field, FieldCode::Character, message)
        }
        ValidationErrorKind::Format { format } => {
            let message = format!("{field} is none of the form {format}. {}", belongs(told(&field)));
            (field, FieldCode::Form, message)
        }
        ValidationErrorKind::Type { kind } => {
            let message = format!("{field} is to be {}.", kind_of(kind));
            (field, FieldCode::Type, message)
        }
        _ => {
            let message = format!("{field} is not as it is described. See the API's document.");
            (field, FieldCode::Type, message)
        }
    };
    Refusal::field(&field, code, message)
}

/// What belongs into a field, as the document says.
fn belongs(told: Option<&str>) -> String {
    let Some(told) = told else { return "Give it.".into() };
    let mut letters = told.chars();
    let first = letters.next().map(|first| first.to_lowercase().to_string()).unwrap_or_default();
    format!("What belongs there: {first}{}", letters.as_str().replace('\n', " "))
}

fn words(options: &Value) -> String {
    let words: Vec<_> = options.as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    match words.split_at_checked(MOST_WORDS) {
        Some((first, rest)) if !rest.is_empty() => format!("{} …", first.join(", ")),
        _ => words.join(", "),
    }
}

fn kind_of(kind: &TypeKind) -> String {
    let one = |kind: &str| match kind {
        "integer" => "a whole number".to_owned(),
        "boolean" => "true or false".to_owned(),
        "array" => "a list".to_owned(),
        "object" => "an object".to_owned(),
        "null" => "null".to_owned(),
        other => format!("a {other}"),
    };
    match kind {
        TypeKind::Single(kind) => one(&kind.to_string()),
        TypeKind::Multiple(kinds) => {
            let kinds: Vec<_> = kinds.iter().map(|kind| one(&kind.to_string())).collect();
            kinds.join(" or ")
        }
    }
}

/// Checks the query of a call before anything else of it is looked at.
pub(crate) async fn check(described: &Described, request: Request, next: Next) -> Response {
    let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
    let query = request.uri().query().unwrap_or_default();
    if !percent_encoding_is_sound(request.uri().path()) {
        let detail = "The path is no UTF-8 text in percent-encoding (RFC 3986, section 2.1). Encode it anew.";
        return Refusal::new(StatusCode::BAD_REQUEST, ProblemKind::Path, detail).into_response();
    }
    let checked = path.map(|path| described.check_query(request.method(), &path, query));
    match checked {
        Some(Err(refusal)) => refusal.into_response(),
        _ => next.run(request).await,
    }
}
