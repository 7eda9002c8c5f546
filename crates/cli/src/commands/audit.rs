//! `audit`.

use chrono::DateTime;
use nomenta_api::audit::{AuditEntry, AuditQuery};
use serde_json::Value;

use crate::Done;
use crate::args::{AuditOptions, Shape};
use crate::client::Client;
use crate::render::{listing, moment};

/// Lines asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn run(client: &Client, shape: Shape, options: AuditOptions) -> anyhow::Result<Done> {
    let query = AuditQuery {
        account: client.account().map(str::to_owned),
        by: options.by,
        name: options.name,
        since: options.since,
        after: None,
        limit: Some(PAGE),
    };
    let rows: Vec<AuditEntry> = client.pages("audit", &query, options.most.unwrap_or(usize::MAX)).await?;

    listing(shape, &rows, ["WHEN", "WHO", "FROM", "WHAT", "BEFORE AND AFTER"], |entry| {
        let name = entry.name.as_deref().unwrap_or_default();
        [
            moment(entry.at),
            format!("{} ({})", entry.who, entry.role),
            entry.from.clone().unwrap_or_default(),
            format!("{} {} {name}\n{}", entry.act, entry.kind, entry.call),
            differences(entry).join("\n"),
        ]
    })
}

/// What is different, field by field.
fn differences(entry: &AuditEntry) -> Vec<String> {
    let field = |values: &Option<Value>, name: &str| values.as_ref().map(|values| said(&values[name]));
    let mut names: Vec<_> = [&entry.before, &entry.after]
        .into_iter()
        .flatten()
        .filter_map(Value::as_object)
        .flat_map(|fields| fields.keys())
        .collect();
    names.sort();
    names.dedup();

    let difference = |name: &&String| match (field(&entry.before, name), field(&entry.after, name)) {
        (Some(was), Some(is)) => format!("{name}: {was} → {is}"),
        (Some(was), None) => format!("{name}: {was}"),
        (None, is) => format!("{name}: {}", is.unwrap_or_default()),
    };
    names.iter().map(difference).collect()
}

fn said(value: &Value) -> String {
    match value {
        Value::Null => "–".into(),
        Value::String(text) => match DateTime::parse_from_rfc3339(text) {
            Ok(at) => moment(at.to_utc()),
            Err(_) => text.clone(),
        },
        Value::Array(list) => list.iter().map(said).collect::<Vec<_>>().join(" "),
        other => other.to_string(),
    }
}
