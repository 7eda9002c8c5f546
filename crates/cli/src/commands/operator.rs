//! `operator`.

use nomenta_api::learned::{OperatorView, OperatorsQuery};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::moment::lasting;
use nomenta_core::learned::lessons::{Lessons, Times};
use serde::Serialize;

use crate::Done;
use crate::args::{OperatorVerb, Shape};
use crate::client::Client;
use crate::render::{listing, shown, table, wrapped};

/// Lines asked for at once.
const PAGE: i64 = 500;

/// An operator in a line, flat enough for spreadsheets.
#[derive(Serialize)]
struct Line {
    operator: String,
    domains: i64,
    cases: usize,
    served_median: Option<u32>,
    served_ninetieth: Option<u32>,
    seen_median: Option<u32>,
    seen_ninetieth: Option<u32>,
    lowest_ttl: Option<u32>,
    flattens: Option<bool>,
    usual: Vec<Code>,
}

impl Line {
    fn of(view: &OperatorView) -> Option<Self> {
        let lessons = view.lessons.as_ref()?;
        let Lessons { cases, served, seen, lowest_ttl, flattens, .. } = *lessons;
        Some(Self {
            operator: view.operator.clone(),
            domains: view.domains,
            cases,
            served_median: served.map(|times| times.median),
            served_ninetieth: served.map(|times| times.ninetieth),
            seen_median: seen.map(|times| times.median),
            seen_ninetieth: seen.map(|times| times.ninetieth),
            lowest_ttl,
            flattens,
            usual: lessons.usual().collect(),
        })
    }
}

pub(crate) async fn run(client: &Client, shape: Shape, verb: OperatorVerb) -> anyhow::Result<Done> {
    match verb {
        OperatorVerb::List => {
            let page = OperatorsQuery { after: None, limit: Some(PAGE) };
            let rows: Vec<OperatorView> = client.pages("operators", &page, usize::MAX).await?;
            if shape == Shape::Csv {
                let lines: Vec<_> = rows.iter().filter_map(Line::of).collect();
                return listing(shape, &lines, [], |_| []);
            }
            let header = ["OPERATOR", "DOMAINS", "AT ITS SERVERS IN", "SEEN IN", "LOWEST TTL", "OFTEN WRONG"];
            listing(shape, &rows, header, |view| {
                let lessons = view.lessons.as_ref();
                let usual = lessons.into_iter().flat_map(Lessons::usual).map(Code::as_str);
                [
                    view.operator.clone(),
                    view.domains.to_string(),
                    lessons.and_then(|lessons| lessons.served).map(times).unwrap_or_default(),
                    lessons.and_then(|lessons| lessons.seen).map(times).unwrap_or_default(),
                    lessons
                        .and_then(|lessons| lessons.lowest_ttl)
                        .map(|ttl| format!("{ttl} s"))
                        .unwrap_or_default(),
                    usual.collect::<Vec<_>>().join("\n"),
                ]
            })
        }
        OperatorVerb::Show { name } => {
            let view: OperatorView = client.get(&format!("operators/{}", encoded(&name))).await?;
            shown(shape, &view, || print(&view))
        }
    }
}

/// A name as a part of a path.
fn encoded(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}

/// `2 min, mostly; 9 of 10 within 20 min`, in the room of a column.
fn times(times: Times) -> String {
    format!("{}, 9 of 10 in {}", lasting(times.median.into()), lasting(times.ninetieth.into()))
}

fn print(view: &OperatorView) {
    println!("{}   {} domains\n", view.operator, view.domains);
    if let Some(form) = &view.form {
        let aliases = if form.flattens { "takes an alias at the apex" } else { "takes no alias at the apex" };
        println!("  in the book       {aliases}; lowest TTL {} s", form.lowest_ttl);
    }

    let Some(lessons) = &view.lessons else {
        let enough = view.enough;
        println!(
            "{}",
            wrapped(&format!(
                "Too little is known to say anything: that takes {} domains of {} accounts.",
                enough.cases, enough.accounts
            ))
        );
        return;
    };

    println!("  learned from      {} domains", lessons.cases);
    let timed = [("at its servers in", lessons.served), ("seen in", lessons.seen)];
    for (what, known) in timed {
        let said =
            known.map_or("not known".into(), |known| format!("{} ({} domains)", times(known), known.cases));
        println!("  {what:<17} {said}");
    }
    println!(
        "  lowest TTL        {}",
        lessons.lowest_ttl.map_or("not known".into(), |ttl| format!("{ttl} s"))
    );
    println!("  aliases at apex   {}", aliases(lessons.flattens));

    if !lessons.mistakes.is_empty() {
        let rows = lessons.mistakes.iter().map(|mistake| {
            let warned = if mistake.is_usual { "customers are warned of it" } else { "" };
            [mistake.code.to_string(), format!("{} of {}", mistake.cases, lessons.cases), warned.to_owned()]
        });
        println!("\n{}", table(["WHAT GOES WRONG", "DOMAINS", ""], rows));
    }
}

fn aliases(flattens: Option<bool>) -> &'static str {
    match flattens {
        Some(true) => "become addresses",
        Some(false) => "stay what they are, and do not work",
        None => "not known",
    }
}
