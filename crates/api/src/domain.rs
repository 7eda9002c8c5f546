//! Domains: the roster, and everything about one.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDate, Utc};
use nomenta_core::judge::baseline::{Baseline, Compared};
use nomenta_core::judge::certificate::CertificateFacts;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::domain::Pair;
use nomenta_core::judge::edit::{Edit, ON_THE_SHEET};
use nomenta_core::judge::evidence::Problem as IssuerProblem;
use nomenta_core::judge::finding::{Finding, Severity};
use nomenta_core::judge::gate::{Gate, GateName, GateState, Gates, Stage};
use nomenta_core::judge::standing::{Contested, Ending};
use nomenta_core::judge::waiting::Wait;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::lookalike::{Lookalike, LookalikeKind};
use nomenta_core::name::subject::Subject;
use nomenta_core::reading::registration::Registration;
use nomenta_core::reading::survey::Survey;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::form::Form;
use nomenta_core::sheet::line::Choice;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::learned::OperatorLessons;
use crate::view::{DomainView, JudgedLine};

/// A domain to take in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "host": "timetable.onswick.example", "site": "onswick" }))]
pub struct NewDomain {
    /// The domain as the customer typed or pasted it; `*.` before it for a
    /// wildcard.
    #[schema(min_length = 1, max_length = 2000)]
    pub host: String,
    /// The site it will show.
    #[schema(min_length = 1, max_length = 63)]
    pub site: String,
    /// Whether the name with `www.` before it, or without it, is taken in too;
    /// the one given is the primary, to which the other leads.
    #[serde(default)]
    pub pair: bool,
    /// Whether one token at the zone's apex proves it, along with every other such name
    /// of the account in that zone.
    #[serde(default)]
    pub by_zone: bool,
}

/// Whose claim of a host is meant, where several accounts claim it.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ClaimQuery {
    /// The account.
    #[param(max_length = 63)]
    pub account: Option<String>,
}

/// What is to change about what a domain shows; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "entry_path": "/timetable" }))]
pub struct MoveDomain {
    /// Another site of the same account.
    #[serde(default)]
    #[schema(min_length = 1, max_length = 63)]
    pub site: Option<String>,
    /// Makes it the primary of its pair.
    #[serde(default)]
    pub primary: bool,
    /// Where visitors enter: a path that begins with one slash; empty for where the site
    /// says.
    #[serde(default)]
    #[schema(
        max_length = 2000,
        pattern = r"^(/([\x21\x22\x24-\x2e\x30-\x5b\x5d-\x7e][\x21\x22\x24-\x5b\x5d-\x7e]*)?)?$"
    )]
    pub entry_path: Option<String>,
    /// What visitors get when something is missing: a path that begins with one slash; empty
    /// for what the site says.
    #[serde(default)]
    #[schema(
        max_length = 2000,
        pattern = r"^(/([\x21\x22\x24-\x2e\x30-\x5b\x5d-\x7e][\x21\x22\x24-\x5b\x5d-\x7e]*)?)?$"
    )]
    pub error_path: Option<String>,
    /// The hour at which it switches; now if left out. Before its first hour the domain
    /// leads to the default host.
    #[serde(default)]
    pub at: Option<DateTime<Utc>>,
}

/// What a change of what a domain shows came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Moved {
    /// Whether the customer has to change records: the other site lies behind another
    /// ingress.
    pub needs_records: bool,
}

/// How a domain left the platform.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Ended {
    /// When.
    pub at: DateTime<Utc>,
    /// How.
    pub ending: Ending,
}

/// What a domain shows, and from when.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Shows {
    /// Where visitors enter, if not where the site says.
    pub entry_path: Option<String>,
    /// What they get when something is missing, if not what the site says.
    pub error_path: Option<String>,
    /// The site that it shows from an hour on, if another.
    pub next_site: Option<String>,
    /// That hour.
    pub switch_at: Option<DateTime<Utc>>,
}

/// One line of the roster.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RosterLine {
    /// The name.
    pub host: DnsName,
    /// The name in its own script.
    pub shown: String,
    /// Set where the name may be taken for another.
    #[serde(default)]
    pub lookalike: Option<LookalikeKind>,
    /// The account.
    pub account: String,
    /// Since when its claim holds the name.
    #[serde(default)]
    pub held_since: Option<DateTime<Utc>>,
    /// The site.
    pub site: String,
    /// The first gate not passed, or `live`.
    pub stage: Stage,
    /// How the four gates stand, in order.
    pub gates: Vec<GateStanding>,
    /// Codes of open findings.
    pub findings: Vec<Code>,
    /// Who runs the DNS of its zone.
    #[serde(default)]
    pub operator: Option<String>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// When anything about it moved last.
    pub moved_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

/// How a gate stands; why is told by the domain itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateStanding {
    /// Which one.
    pub name: GateName,
    /// Where it stands.
    pub state: GateState,
}

/// Why a name may be taken for another.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookalikeView {
    /// Which it is.
    pub kind: LookalikeKind,
    /// The same in a sentence, which has the name as DNS has it beside.
    pub told: String,
}

impl LookalikeView {
    /// Judges a name, or the one under an asterisk.
    pub fn of(routed: &str) -> Option<Self> {
        let lookalike = Lookalike::of(&Subject::kept(routed).host)?;
        Some(Self { kind: lookalike.kind(), told: lookalike.to_string() })
    }
}

nomenta_core::spelled! {
    /// What a roster is sorted by.
    #[derive(ToSchema)]
    pub enum RosterSort: "order" {
        /// By name.
        Name = "name",
        /// By stage, in the order in which they are passed.
        Stage = "stage",
        /// By when they were taken in.
        Enrolled = "enrolled",
        /// By when anything about them moved last.
        Moved = "moved",
    }
}

/// Which part of the roster, and in which order.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RosterQuery {
    /// Only this stage; without one, those that have not left.
    #[param(value_type = Option<Stage>)]
    pub stage: Option<String>,
    /// Only this account.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those that show this site.
    #[param(max_length = 63)]
    pub site: Option<String>,
    /// Only those behind this ingress.
    #[param(max_length = 63)]
    pub ingress: Option<String>,
    /// Only those whose zone's DNS this operator runs.
    #[param(max_length = 253)]
    pub operator: Option<String>,
    /// Only those with this finding.
    #[param(value_type = Option<Code>)]
    pub finding: Option<String>,
    /// Only names that contain this, as DNS has them or in their own script.
    #[param(max_length = 253)]
    pub text: Option<String>,
    /// Only those taken in so many days ago, or longer.
    #[param(maximum = 36500)]
    pub older_than: Option<u32>,
    /// Only those taken in within so many days.
    #[param(maximum = 36500)]
    pub younger_than: Option<u32>,
    /// What it is sorted by; by name if left out. A cursor keeps the order of its page.
    #[param(value_type = Option<RosterSort>)]
    pub sort: Option<String>,
    /// From the end.
    #[serde(default)]
    #[param(default = false)]
    pub descending: bool,
    /// Only what comes after the cursor of the page before, in its order.
    #[param(
        max_length = 400,
        pattern = r"^(name~[!-}]{1,253}|stage~(ownership|routing|certificate|serving|live|paused|released)~[!-}]{1,253}|(enrolled|moved)~[0-9]{1,17})~[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$"
    )]
    pub after: Option<String>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// How many domains stand at a stage.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StageCount {
    /// The stage.
    pub stage: Stage,
    /// Domains there.
    pub count: i64,
}

/// How many domains have a finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FindingCount {
    /// The finding.
    pub finding: Code,
    /// Domains that have it.
    pub count: i64,
}

/// How many domains lie with a DNS operator.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OperatorCount {
    /// Its name, or the domain of its name servers.
    pub operator: String,
    /// Domains that lie there.
    pub count: i64,
}

/// How many certificates run out, and are renewed, in a week.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WeekCount {
    /// Its Monday (UTC).
    pub week: NaiveDate,
    /// Run out then; what has run out counts for this week.
    pub ending: i64,
    /// Are renewed then; what is overdue counts for this week.
    pub renewing: i64,
}

/// The fleet, or what a key sees of it, in numbers that are kept as it changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Counts {
    /// By stage, in order, empty ones too.
    pub stages: Vec<StageCount>,
    /// By finding, those that most have first.
    pub findings: Vec<FindingCount>,
    /// By DNS operator, those with most first, 20 at most.
    pub operators: Vec<OperatorCount>,
    /// Certificates, by the coming weeks that have any.
    pub weeks: Vec<WeekCount>,
}

/// Whose numbers.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CountsQuery {
    /// Only this account's.
    #[param(max_length = 63)]
    pub account: Option<String>,
}

/// An open finding with its times.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OpenFinding {
    /// The finding.
    #[serde(flatten)]
    pub finding: Finding,
    /// Since when.
    pub first_seen: DateTime<Utc>,
    /// Confirmed last.
    pub last_seen: DateTime<Utc>,
}

/// Everything about a domain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DomainDetail {
    /// The name.
    pub host: DnsName,
    /// The name in its own script.
    pub shown: String,
    /// Set where the name may be taken for another.
    #[serde(default)]
    pub lookalike: Option<LookalikeView>,
    /// The account.
    pub account: String,
    /// The site.
    pub site: String,
    /// The site's host under the platform's own zone.
    pub default_host: DnsName,
    /// What it shows, and from when.
    pub shows: Shows,
    /// Since when its claim holds the name.
    pub held_since: Option<DateTime<Utc>>,
    /// The contest that it is in.
    pub contest: Option<Contested>,
    /// When and how it left the platform.
    pub ended: Option<Ended>,
    /// Since when it is paused.
    pub paused_at: Option<DateTime<Utc>>,
    /// Since when its account is suspended.
    pub suspended_at: Option<DateTime<Utc>>,
    /// The first gate not passed, or `live`.
    pub stage: Stage,
    /// The four gates in order.
    #[schema(value_type = Vec<Gate>)]
    pub gates: Gates,
    /// The other domain of the pair, where there is one.
    pub pair: Option<Pair>,
    /// The zone that holds the name.
    pub zone: DnsName,
    /// The sheet with what was read.
    pub lines: Vec<JudgedLine>,
    /// Open findings.
    pub findings: Vec<OpenFinding>,
    /// Current beside required: what to keep, delete, change and add, in an
    /// order in which nothing breaks.
    pub todo: Vec<Edit>,
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<Form>,
    /// Who runs the zone's DNS, as far as its name servers tell.
    #[serde(default)]
    pub operator: Option<OperatorLessons>,
    /// What each vantage sees, or holds and until when.
    pub waits: Vec<Wait>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// How that share came about, oldest first.
    pub spreads: Vec<SpreadPoint>,
    /// When the token runs out.
    pub token_expires_at: DateTime<Utc>,
    /// What its registry says of the registered domain, where that was asked.
    #[serde(default)]
    pub registration: Option<Registration>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
    /// When the next look is due.
    pub next_look: Option<DateTime<Utc>>,
    /// The certificate held.
    pub certificate: Option<CertificateFacts>,
    /// The CA's problem document, where it refused the last order that ended.
    pub refusal: Option<IssuerProblem>,
    /// What of all this is shown.
    pub view: DomainView,
}

impl DomainDetail {
    /// Names the sheet wherever the token would have to be typed, for whoever is
    /// not shown it.
    pub fn refer_to_sheet(&mut self, token: &str) {
        let edits = self.todo.iter_mut().chain(&mut self.view.list);
        edits.for_each(|edit| edit.refer_to_sheet(token));
        self.findings.iter_mut().for_each(|open| open.finding.refer_to_sheet(token));

        for judged in &mut self.lines {
            judged.line.value_field = judged.line.value_field.replace(token, ON_THE_SHEET);
        }
        for gate in &mut self.gates.0 {
            gate.reason = gate.reason.replace(token, ON_THE_SHEET);
        }
        for gate in &mut self.view.gates {
            gate.said = gate.said.replace(token, ON_THE_SHEET);
        }
    }
}

/// Who saw the routing from one moment on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SpreadPoint {
    /// Since when.
    pub at: DateTime<Utc>,
    /// Vantages that see it.
    pub seeing: Vec<String>,
    /// Vantages that were asked.
    pub asked: Vec<String>,
}

/// Whether the token is shown or masked.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RevealQuery {
    /// Shows the token, which is masked otherwise; takes an operator key.
    #[serde(default)]
    pub reveal: bool,
}

/// The baseline, and how its records stand now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BaselineView {
    /// As it was at enrolment; none before the first look.
    pub baseline: Option<Baseline>,
    /// Each record of then and now; empty where the zone cannot be read.
    pub compared: Vec<Compared>,
    /// The baseline as lines of a master file (RFC 1035, section 5).
    pub zone_lines: String,
}

/// A domain's sheet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SheetView {
    /// The sheet.
    #[serde(flatten)]
    pub sheet: Sheet,
    /// When the token runs out.
    pub token_expires_at: DateTime<Utc>,
    /// Set where the name may be taken for another.
    #[serde(default)]
    pub lookalike: Option<LookalikeView>,
    /// The other domain of the pair, where there is one.
    #[serde(default)]
    pub pair: Option<PairedSheet>,
    /// The heading of each choice.
    #[serde(default)]
    #[schema(value_type = HashMap<String, String>, required = true)]
    pub headings: BTreeMap<Choice, String>,
}

impl SheetView {
    /// A sheet as it is handed over.
    pub fn new(sheet: Sheet, token_expires_at: DateTime<Utc>, pair: Option<PairedSheet>) -> Self {
        let headings = Choice::ALL.iter().map(|choice| (*choice, choice.words().to_owned()));
        let lookalike = LookalikeView::of(&sheet.routed);

        Self { sheet, token_expires_at, lookalike, pair, headings: headings.collect() }
    }
}

/// The other domain of a pair and its sheet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PairedSheet {
    /// Whether it is the primary, to which the one asked for leads.
    pub is_primary: bool,
    /// What to publish for it.
    pub sheet: Sheet,
}

/// The latest survey of a domain; none before the first look.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SurveyView {
    /// The survey.
    pub survey: Option<Survey>,
    /// When the next look is due.
    pub next_look: Option<DateTime<Utc>>,
}

/// An entry of the catalogue of findings.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct CatalogueEntry {
    /// Stable code.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What it means.
    pub about: &'static str,
}
