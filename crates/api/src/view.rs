//! What of a domain is shown, decided once for every place that shows it.

use std::collections::HashSet;
use std::fmt;

use nomenta_core::judge::code::Code;
use nomenta_core::judge::edit::{Edit, EditKind};
use nomenta_core::judge::finding::Finding;
use nomenta_core::judge::gate::{Gate, GateName, Gates};
use nomenta_core::judge::verdict::{Cell, Verdict};
use nomenta_core::sheet::line::{Choice, Line, Purpose};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A sheet line with what was read for it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JudgedLine {
    /// What to publish.
    #[serde(flatten)]
    pub line: Line,
    /// What each source says.
    pub cells: Vec<Cell>,
}

/// What of a domain is shown.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DomainView {
    /// The gates in order, each with what to say of it.
    pub gates: Vec<GateView>,
    /// Places of the lines in use: of several choices those that are begun,
    /// else the preferred one.
    pub in_use: Vec<usize>,
    /// The customer's list, in order; empty where the one finding that is open
    /// says all of it already.
    pub list: Vec<Edit>,
    /// Why no next look comes, in one sentence; `None` where one does.
    pub no_look: Option<String>,
}

/// Why a domain is not looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoLook {
    /// It is paused.
    Paused,
    /// Its account is suspended.
    Suspended,
    /// It has left, and nothing of it is watched any more.
    Over,
}

impl fmt::Display for NoLook {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Paused => "No next look: the domain is paused. It is looked at once it is resumed.",
            Self::Suspended => {
                "No next look: the account is suspended. The domain is looked at once that is resumed."
            }
            Self::Over => "No next look: the domain has left the platform, and nothing of it is left behind.",
        })
    }
}

/// A gate, and what to say of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateView {
    /// Which one.
    pub name: GateName,
    /// The open finding that stands in its way, if one does.
    pub finding: Option<Code>,
    /// The code of that finding, which is told elsewhere; else why the gate
    /// stands as it does, in one sentence.
    pub said: String,
}

impl DomainView {
    /// Decides what is shown.
    pub fn of(gates: &Gates, lines: &[JudgedLine], findings: &[&Finding], todo: &[Edit]) -> Self {
        Self {
            gates: gates.0.iter().map(|gate| GateView::of(gate, findings)).collect(),
            in_use: in_use(lines),
            list: if says_more(todo, findings) { todo.to_vec() } else { Vec::new() },
            no_look: None,
        }
    }
}

impl GateView {
    fn of(gate: &Gate, findings: &[&Finding]) -> Self {
        let finding = gate.because.filter(|code| findings.iter().any(|finding| finding.code == *code));

        let said = finding.map_or_else(|| gate.reason.clone(), |code| code.to_string());
        Self { name: gate.name, finding, said }
    }
}

fn in_use(lines: &[JudgedLine]) -> Vec<usize> {
    let mut in_use = Vec::new();
    for purpose in Purpose::ALL {
        let of: Vec<usize> =
            (0..lines.len()).filter(|place| lines[*place].line.purpose == *purpose).collect();

        let begun: Vec<Choice> = of
            .iter()
            .filter(|place| is_met(&lines[**place]))
            .map(|place| lines[*place].line.choice)
            .collect();
        let preferred = of.first().map(|place| lines[*place].line.choice);

        in_use.extend(of.into_iter().filter(|place| {
            let choice = lines[*place].line.choice;
            if begun.is_empty() { Some(choice) == preferred } else { begun.contains(&choice) }
        }));
    }

    in_use.sort_unstable();
    in_use
}

/// Whether any source has it.
fn is_met(judged: &JudgedLine) -> bool {
    judged.cells.iter().any(|cell| cell.verdict == Verdict::Match)
}

/// Whether there is more to the list than the one finding says.
fn says_more(todo: &[Edit], findings: &[&Finding]) -> bool {
    let told: &[Edit] = match findings {
        [one] => &one.edits,
        _ => &[],
    };

    let told: HashSet<_> = told.iter().map(Edit::about).collect();
    let mut changes = todo.iter().filter(|edit| edit.kind != EditKind::Keep);
    changes.any(|change| !told.contains(&change.about()))
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;
    use nomenta_core::judge::finding::Severity;
    use nomenta_core::judge::verdict::Cell;
    use nomenta_core::reading::answer::Source;
    use nomenta_core::reading::record::RecordType;
    use nomenta_core::sheet::line::Line;

    use super::*;

    fn line(choice: Choice, verdict: Verdict) -> JudgedLine {
        let line = Line {
            purpose: Purpose::Routing,
            choice,
            rtype: RecordType::A,
            owner: "onswick.example".into(),
            host_field: "@".into(),
            value: "127.77.0.10".into(),
            value_field: "127.77.0.10".into(),
            ttl: 300,
            required: false,
        };
        let source = Source::Vantage { name: "north".into() };
        let cells = vec![Cell { source, verdict, read: Vec::new(), ttl: None }];
        JudgedLine { line, cells }
    }

    fn edit(kind: EditKind, value: &str) -> Edit {
        Edit {
            kind,
            rtype: RecordType::A.into(),
            host_field: "@".into(),
            owner: "onswick.example".into(),
            value: value.into(),
            was: None,
        }
    }

    fn finding(edits: Vec<Edit>) -> Finding {
        Finding {
            code: Code::AddressSurplus,
            severity: Severity::Blocker,
            gate: GateName::Routing,
            remedy: "Delete it.".into(),
            remark: String::new(),
            evidence: Vec::new(),
            edits,
        }
    }

    #[test]
    fn the_choice_that_is_begun_is_in_use_else_the_preferred_one() {
        let lines = [line(Choice::Cname, Verdict::Absent), line(Choice::Addresses, Verdict::Absent)];
        assert_eq!(in_use(&lines), [0]);
        let lines = [line(Choice::Cname, Verdict::Absent), line(Choice::Addresses, Verdict::Match)];
        assert_eq!(in_use(&lines), [1]);
    }

    #[test]
    fn the_list_is_shown_where_it_says_more_than_one_finding_does() {
        let told = finding(vec![edit(EditKind::Delete, "192.0.2.7")]);
        let list = [edit(EditKind::Keep, "127.77.0.10"), edit(EditKind::Delete, "192.0.2.7")];
        assert!(!says_more(&list, &[&told]));
        assert!(says_more(&list, &[]));
        assert!(says_more(&list, &[&told, &told]), "two findings need one order");
        assert!(!says_more(&list[..1], &[]), "what is only kept is no work");
    }

    #[test]
    fn a_gate_names_the_finding_in_its_way_while_that_is_open() {
        let mut gates = Gates::new(DateTime::UNIX_EPOCH);
        gates.0[1].because = Some(Code::AddressSurplus);
        let open = finding(Vec::new());
        let view = DomainView::of(&gates, &[], &[&open], &[]);
        assert_eq!(
            (view.gates[1].finding, view.gates[1].said.as_str()),
            (Some(open.code), "address-surplus")
        );
        let view = DomainView::of(&gates, &[], &[], &[]);
        assert_eq!((view.gates[1].finding, view.gates[1].said.as_str()), (None, "Not looked at yet."));
    }
}
