//! What the fleet has learned of those who run its customers' DNS.

use nomenta_core::judge::moment::lasting;
use nomenta_core::learned::lessons::{Lessons, Times};
use nomenta_core::sheet::form::Form;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A page of the DNS operators.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct OperatorsQuery {
    /// Only what comes after the cursor of the page before.
    #[param(max_length = 700, pattern = "^[0-9]{1,18}~([0-9a-f]{2}){1,300}$")]
    pub after: Option<String>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// Who runs a zone's DNS, with what was learned of them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OperatorLessons {
    /// Its name, or the domain of its name servers.
    pub operator: String,
    /// What was learned, where there were enough cases.
    pub lessons: Option<Lessons>,
    /// How long it takes there, for the engineer; nothing, where that is not known.
    pub told: Option<String>,
}

impl OperatorLessons {
    /// With how long it takes there in words.
    pub fn of(operator: String, lessons: Option<Lessons>) -> Self {
        let told = lessons.as_ref().and_then(|lessons| Self::tell(&operator, lessons));
        Self { operator, lessons, told }
    }

    fn tell(operator: &str, lessons: &Lessons) -> Option<String> {
        let within = |times: Times| {
            format!(
                "{} (nine of ten within {})",
                lasting(times.median.into()),
                lasting(times.ninetieth.into())
            )
        };
        let served = lessons.served.map(|times| {
            format!("A change at {operator} usually reaches its servers within {}.", within(times))
        });
        let seen = lessons.seen.map(|times| {
            format!("What its servers have is usually seen by most of the world within {}.", within(times))
        });

        let told: Vec<_> = served.into_iter().chain(seen).collect();
        (!told.is_empty()).then(|| told.join(" "))
    }
}

/// A DNS operator.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OperatorView {
    /// Its name, or the domain of its name servers.
    pub operator: String,
    /// Domains with it, of those that the caller sees.
    pub domains: i64,
    /// How its editor wants lines typed, if the book has it.
    pub form: Option<Form>,
    /// What was learned, where there were enough cases.
    pub lessons: Option<Lessons>,
    /// What enough would be.
    pub enough: Needed,
}

/// How much must be known before anything is said.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Needed {
    /// Domains.
    pub cases: usize,
    /// Accounts that they are of.
    pub accounts: usize,
}
