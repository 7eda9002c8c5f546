//! The roster, and the fleet in numbers.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use axum::http::HeaderMap;
use chrono::{DateTime, Datelike, Duration, NaiveDate, Utc};
use nomenta_api::domain::{
    Counts, CountsQuery, FindingCount, GateStanding, LookalikeView, OperatorCount, RosterLine, RosterQuery,
    RosterSort, StageCount, WeekCount,
};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::Stage;
use nomenta_store::{Counted, Order, Place, RosterFilter, RosterRow, Sort};

use super::domains::shown;
use super::paging::{self, Cursor};
use crate::App;
use crate::access::Caller;
use crate::problem::{Params, Refusal};
use crate::shown::Shown;

/// DNS operators that are told apart in the fleet's numbers.
const OPERATORS: i64 = 20;
/// Weeks that the fleet's numbers reach.
const WEEKS: i64 = 18;

/// Domains by name, or in another order, a page at a time; the `Link` header leads to the
/// next (RFC 8288). Where a text is in thousands of names a page may have fewer lines than were
/// asked for, and leads on all the same.
#[utoipa::path(get, path = "/api/v1/domains", params(RosterQuery),
    responses((status = 200, body = [RosterLine]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn roster(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<RosterQuery>,
) -> Result<(HeaderMap, Shown<Vec<RosterLine>>), Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let filter = filter(&query)?;
    let order = order(&query)?;

    let page = reach.roster_page(&filter, &order, limit + 1).await?;
    let asked = paging::asked(&query)?;
    let (headers, rows) =
        paging::page_beyond(page, limit, "domains", |row| cursor(&order.by, row), written, &asked)?;
    Ok((headers, Shown::plain(rows.into_iter().map(line).collect())))
}

/// Reads which part of the roster is asked for.
pub(super) fn filter(query: &RosterQuery) -> Result<RosterFilter, Refusal> {
    let stage = query.stage.as_deref().map(str::parse::<Stage>).transpose();
    let finding = query.finding.as_deref().map(str::parse::<Code>).transpose();
    let text = query.text.as_deref().map(str::trim).filter(|text| !text.is_empty());

    Ok(RosterFilter {
        stage: stage.map_err(|unknown| Refusal::field("stage", FieldCode::Stage, unknown))?,
        site: query.site.clone(),
        ingress: query.ingress.clone(),
        operator: query.operator.clone(),
        finding: finding.map_err(|unknown| Refusal::field("finding", FieldCode::Finding, unknown))?,
        text: text.map(str::to_owned),
        before: query.older_than.map(|days| paging::days_from_now("older_than", days, -1)).transpose()?,
        since: query.younger_than.map(|days| paging::days_from_now("younger_than", days, -1)).transpose()?,
        ..RosterFilter::default()
    })
}

/// The order of a listing: that of the page before, where its cursor is given.
fn order(query: &RosterQuery) -> Result<Order, Refusal> {
    let by = match &query.after {
        Some(cursor) => read(cursor).ok_or_else(paging::no_cursor)?,
        None => from_the_start(query.sort.as_deref())?,
    };
    Ok(Order { by, is_descending: query.descending })
}

fn from_the_start(sort: Option<&str>) -> Result<Sort, Refusal> {
    let sort = sort.map(str::parse::<RosterSort>).transpose();
    let sort = sort.map_err(|unknown| Refusal::field("sort", FieldCode::Order, unknown))?;
    Ok(match sort.unwrap_or(RosterSort::Name) {
        RosterSort::Name => Sort::Name(None),
        RosterSort::Stage => Sort::Stage(None),
        RosterSort::Enrolled => Sort::Enrolled(None),
        RosterSort::Moved => Sort::Moved(None),
    })
}

/// The place that a cursor is at, with its order.
fn read(cursor: &str) -> Option<Sort> {
    let (sort, place) = cursor.split_once('~')?;
    Some(match sort.parse().ok()? {
        RosterSort::Name => Sort::Name(Some(Place::read(place).ok()?)),
        RosterSort::Stage => {
            let (stage, place) = place.split_once('~')?;
            Sort::Stage(Some((stage.parse().ok()?, Place::read(place).ok()?)))
        }
        RosterSort::Enrolled => Sort::Enrolled(Some(Place::read(&place.replacen('~', ".", 1)).ok()?)),
        RosterSort::Moved => Sort::Moved(Some(Place::read(&place.replacen('~', ".", 1)).ok()?)),
    })
}

/// The cursor of the page after a line.
fn cursor(by: &Sort, last: &RosterRow) -> String {
    let name = Place::after(last.host.clone(), last.id);
    let at = match by {
        Sort::Name(_) => Sort::Name(Some(name)),
        Sort::Stage(_) => Sort::Stage(Some((last.stage, name))),
        Sort::Enrolled(_) => Sort::Enrolled(Some(Place::after(last.enrolled_at, last.id))),
        Sort::Moved(_) => Sort::Moved(Some(Place::after(last.moved_at, last.id))),
    };
    written(&at).unwrap_or_default()
}

/// An order with the place that it is at, as a cursor.
fn written(at: &Sort) -> Option<String> {
    let moment = |place: &Place<DateTime<Utc>>| place.written().replacen('.', "~", 1);
    Some(match at {
        Sort::Name(place) => format!("{}~{}", RosterSort::Name, place.as_ref()?.written()),
        Sort::Stage(at) => {
            let (stage, name) = at.as_ref()?;
            format!("{}~{stage}~{}", RosterSort::Stage, name.written())
        }
        Sort::Enrolled(place) => format!("{}~{}", RosterSort::Enrolled, moment(place.as_ref()?)),
        Sort::Moved(place) => format!("{}~{}", RosterSort::Moved, moment(place.as_ref()?)),
    })
}

fn line(row: RosterRow) -> RosterLine {
    RosterLine {
        shown: shown(&row.host),
        lookalike: LookalikeView::of(&row.host).map(|lookalike| lookalike.kind),
        host: row.host.into(),
        account: row.account,
        held_since: row.held_since,
        site: row.site,
        stage: row.stage,
        gates: row.gates.map(|(name, state)| GateStanding { name, state }).into(),
        findings: row.findings,
        operator: row.operator,
        spread: row.spread,
        enrolled_at: row.enrolled_at,
        moved_at: row.moved_at,
        looked_at: row.looked_at,
    }
}

/// How many domains stand at each stage, have each finding, lie with each DNS operator, and
/// how many certificates run out in each week.
#[utoipa::path(get, path = "/api/v1/counts", params(CountsQuery),
    responses((status = 200, body = Counts), (status = 404, body = Problem)))]
pub(super) async fn counts(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<CountsQuery>,
) -> Result<Shown<Counts>, Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let today = Utc::now().date_naive();
    let until = today + Duration::weeks(WEEKS);

    let (stages, findings, operators, certificates) = tokio::try_join!(
        reach.stage_counts(),
        reach.finding_counts(),
        reach.operator_counts(OPERATORS),
        reach.certificate_counts(until)
    )?;

    let mut findings: Vec<_> =
        findings.into_iter().map(|one| FindingCount { finding: one.of, count: one.count }).collect();
    findings.sort_by_key(|one| std::cmp::Reverse(one.count));
    let operators = operators.into_iter().map(|one| OperatorCount { operator: one.of, count: one.count });

    Ok(Shown::plain(Counts {
        stages: by_stage(&stages),
        findings,
        operators: operators.collect(),
        weeks: weeks(&certificates, today),
    }))
}

/// Every stage in order, empty ones too.
pub(super) fn by_stage(counts: &[Counted<Stage>]) -> Vec<StageCount> {
    let count = |stage| counts.iter().find(|one| one.of == stage).map_or(0, |one| one.count);
    Stage::WORDS.into_iter().map(|stage| StageCount { stage, count: count(stage) }).collect()
}

/// Days put together to weeks; what is overdue counts for this one.
fn weeks([ending, renewing]: &[Vec<Counted<NaiveDate>>; 2], today: NaiveDate) -> Vec<WeekCount> {
    let mut weeks = BTreeMap::new();
    for (days, is_ending) in [(ending, true), (renewing, false)] {
        for day in days {
            let week = monday(day.of.max(today));
            let counts = weeks.entry(week).or_insert(WeekCount { week, ending: 0, renewing: 0 });
            *(if is_ending { &mut counts.ending } else { &mut counts.renewing }) += day.count;
        }
    }
    weeks.into_values().collect()
}

fn monday(day: NaiveDate) -> NaiveDate {
    day - Duration::days(day.weekday().num_days_from_monday().into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weeks_begin_on_monday_and_what_is_overdue_counts_for_this_one() {
        let day = |text: &str| text.parse::<NaiveDate>().expect("a day");
        let on = |text: &str, count| Counted { of: day(text), count };
        let counted =
            [vec![on("2026-01-01", 2), on("2026-11-29", 1), on("2026-11-30", 4)], vec![on("2026-12-06", 3)]];
        let want = [
            WeekCount { week: day("2026-11-23"), ending: 3, renewing: 0 },
            WeekCount { week: day("2026-11-30"), ending: 4, renewing: 3 },
        ];
        assert_eq!(weeks(&counted, day("2026-11-26")), want);
    }

    #[test]
    fn a_cursor_keeps_its_order() {
        let id = uuid::Uuid::nil();
        for by in ["name~www.onswick.example", "stage~live~www.onswick.example", "enrolled~17", "moved~17"] {
            let query = RosterQuery {
                after: Some(format!("{by}~{id}")),
                sort: Some("stage".into()),
                ..RosterQuery::default()
            };
            let order = order(&query).expect(by);
            let is_same = match order.by {
                Sort::Name(Some(place)) => by == format!("name~{}", place.by),
                Sort::Stage(Some((stage, place))) => by == format!("stage~{stage}~{}", place.by),
                Sort::Enrolled(Some(place)) => by == format!("enrolled~{}", place.by.timestamp_micros()),
                Sort::Moved(Some(place)) => by == format!("moved~{}", place.by.timestamp_micros()),
                _ => false,
            };
            assert!(is_same, "{by}");
        }
        for bad in ["", "name", "name~x~y", "moved~x~00000000-0000-0000-0000-000000000000", "stage~live"] {
            assert!(read(bad).is_none(), "{bad}");
        }
    }
}
