//! What one walk may cost, whatever strangers publish.

use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Instant;

use thiserror::Error;

use crate::SurveyLimits;

/// Time and questions that are left.
pub(crate) struct Budget {
    deadline: Instant,
    questions: AtomicU32,
}

impl Budget {
    pub(crate) fn new(limits: SurveyLimits) -> Self {
        let deadline = Instant::now() + limits.walk;
        Self { deadline, questions: AtomicU32::new(limits.questions) }
    }

    /// Takes one question out of it.
    ///
    /// # Errors
    /// [`Spent`] once nothing is left.
    pub(crate) fn take(&self) -> Result<(), Spent> {
        if Instant::now() >= self.deadline {
            return Err(Spent::Time.counted());
        }

        let left =
            self.questions.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(1));
        left.map(drop).map_err(|_| Spent::Questions.counted())
    }
}

/// What ran out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub(crate) enum Spent {
    #[error("the time for the walk was over")]
    Time,
    #[error("the walk had asked as many questions as it may")]
    Questions,
}

impl Spent {
    fn counted(self) -> Self {
        let what = match self {
            Self::Time => "time",
            Self::Questions => "questions",
        };
        metrics::counter!("nomenta_dns_walks_cut_short_total", "for_want_of" => what).increment(1);
        self
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn questions_and_time_run_out() {
        let limits = SurveyLimits { questions: 2, ..SurveyLimits::default() };
        let budget = Budget::new(limits);
        assert_eq!([budget.take(), budget.take(), budget.take()], [Ok(()), Ok(()), Err(Spent::Questions)]);

        let budget = Budget::new(SurveyLimits { walk: Duration::ZERO, ..limits });
        assert_eq!(budget.take(), Err(Spent::Time));
    }
}
