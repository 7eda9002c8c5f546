//! Problem documents (RFC 9457), and the kinds that there are.

use nomenta_core::name::plain;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the URN of each kind begins with.
const URN: &str = "urn:nomenta:problem:";

nomenta_core::spelled! {
    /// Kinds of problem: the last part of a problem's URN.
    pub enum ProblemKind: "kind of problem" {
        /// A field cannot be taken as it is.
        Field = "field",
        /// The body cannot be read.
        Body = "body",
        /// A query parameter cannot be read.
        Query = "query",
        /// The path cannot be read.
        Path = "path",
        /// There is such a path, and nothing to be done to it in that way.
        Method = "method",
        /// The body is of a type that is not read.
        MediaType = "media-type",
        /// The answer has none of the types that were asked for.
        NotAcceptable = "not-acceptable",
        /// The body is larger than what is read.
        TooLarge = "too-large",
        /// What is to be changed has been changed since.
        Changed = "changed",
        /// A change has to name the version that it is of.
        VersionNeeded = "version-needed",
        /// The key of a call was used for another one.
        OtherCall = "other-call",
        /// The call is under way, or its end is not known.
        UnderWay = "under-way",
        /// No key was given, or one that opens nothing.
        KeyNeeded = "key-needed",
        /// The key's role is too small.
        RoleNeeded = "role-needed",
        /// Another site asks for it, by way of somebody's browser.
        OtherSite = "other-site",
        /// There is no such record, or no such call.
        NotFound = "not-found",
        /// The name is in use.
        Taken = "taken",
        /// There is no certificate to renew.
        NothingToRenew = "nothing-to-renew",
        /// There is no certificate to revoke.
        NothingToRevoke = "nothing-to-revoke",
        /// The domain has left the platform.
        Released = "released",
        /// Several accounts claim the name.
        SeveralClaims = "several-claims",
        /// The domain is paused, or its account suspended.
        Resting = "resting",
        /// The account's plan grants no more domains.
        AllowanceReached = "allowance-reached",
        /// The contest is settled.
        Settled = "settled",
        /// A domain of no pair has no primary.
        NoPair = "no-pair",
        /// The customer's zone is not written to.
        NotPublished = "not-published",
        /// It was done a moment ago.
        TooSoon = "too-soon",
        /// Something outside does not answer.
        Unavailable = "unavailable",
        /// Something failed inside.
        Internal = "internal",
    }
}

impl ProblemKind {
    /// The kind in words.
    pub fn title(self) -> &'static str {
        match self {
            Self::Field => "A field cannot be taken as it is",
            Self::Body => "The body cannot be read",
            Self::Query => "A query parameter cannot be read",
            Self::Path => "The path cannot be read",
            Self::Method => "Nothing to be done in that way",
            Self::MediaType => "Not a type that is read",
            Self::NotAcceptable => "No such form of the answer",
            Self::TooLarge => "Larger than what is read",
            Self::Changed => "Changed meanwhile",
            Self::VersionNeeded => "A version is needed",
            Self::OtherCall => "Used for another call",
            Self::UnderWay => "Under way",
            Self::KeyNeeded => "A key is needed",
            Self::RoleNeeded => "Another role is needed",
            Self::OtherSite => "Asked for by another site",
            Self::NotFound => "Not found",
            Self::Taken => "The name is in use",
            Self::SeveralClaims => "Several accounts claim the name",
            Self::AllowanceReached => "The plan grants no more domains",
            Self::NothingToRenew
            | Self::NothingToRevoke
            | Self::Released
            | Self::Resting
            | Self::Settled
            | Self::NoPair => "Not possible now",
            Self::TooSoon => "Asked for a moment ago",
            Self::Unavailable => "Not available",
            Self::NotPublished => "The zone is not written to",
            Self::Internal => "Something failed inside",
        }
    }
}

nomenta_core::spelled! {
    /// What is wrong with a field, beside what a name or a certificate may have
    /// wrong with it.
    pub enum FieldCode: "reason" {
        /// It is missing.
        Missing = "missing",
        /// There is no such field or parameter.
        Unknown = "unknown",
        /// It is given twice.
        Repeated = "repeated",
        /// It is no word of those that there are.
        UnknownWord = "unknown-word",
        /// It has a character that it cannot have.
        Character = "character",
        /// It has not the form that it should have.
        Form = "form",
        /// It is of another type.
        Type = "type",
        /// Nothing was given.
        Empty = "empty",
        /// It is no short name.
        ShortName = "short-name",
        /// It is no path on a site.
        Path = "path",
        /// It is no IP address.
        Address = "address",
        /// It is no canonical host.
        CanonicalHost = "canonical-host",
        /// It is no stage.
        Stage = "stage",
        /// It is no finding.
        Finding = "finding",
        /// It is no order of a listing.
        Order = "order",
        /// It is too small or too large a number.
        OutOfRange = "out-of-range",
        /// It is no cursor.
        Cursor = "cursor",
        /// It is no reason for a revocation.
        Reason = "reason",
        /// It is no key of a zone, or not one that its server takes.
        Key = "key",
        /// It is no role.
        Role = "role",
        /// A wildcard has no pair.
        Wildcard = "wildcard",
        /// The key is unknown or revoked.
        UnknownKey = "unknown-key",
        /// The key is for edge servers.
        EdgeKey = "edge-key",
        /// The zone file cannot be read.
        ZoneFile = "zone-file",
        /// The zone file is of another zone.
        OtherZone = "other-zone",
        /// More than is read.
        TooLarge = "too-large",
        /// A file that could not be amended.
        NotAmended = "not-amended",
        /// It is no name that a site may have.
        SiteName = "site-name",
        /// It is no side of a contest.
        Side = "side",
        /// A domain of no pair has no primary.
        NoPair = "no-pair",
        /// There is no such record.
        NotFound = "not-found",
        /// The name is in use.
        Taken = "taken",
    }
}

/// A problem document (RFC 9457). `errors` names the fields at fault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// URN of the kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// What happened, and what to do.
    pub detail: String,
    /// Fields at fault.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FieldError>,
}

/// What is wrong with one field of the request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FieldError {
    /// Name of the field.
    pub field: String,
    /// Stable word.
    pub code: String,
    /// What is wrong, and what to type instead.
    pub message: String,
    /// The line at fault, counted from 1, in a text of several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
}

impl Problem {
    /// A problem of a kind, with what happened and what to do.
    pub fn new(status: u16, kind: ProblemKind, detail: impl Into<String>) -> Self {
        Self {
            kind: format!("{URN}{kind}"),
            title: kind.title().into(),
            status,
            // What was sent may be told again, and may be anything.
            detail: plain::escaped(&detail.into()),
            errors: Vec::new(),
        }
    }

    /// Whether it is of a kind.
    pub fn is(&self, kind: ProblemKind) -> bool {
        self.kind.strip_prefix(URN) == Some(kind.as_str())
    }

    /// Names the field at fault; `code` is a stable word.
    #[must_use]
    pub fn at(mut self, field: &str, code: impl ToString) -> Self {
        let message = self.detail.clone();

        self.errors = vec![FieldError { field: field.into(), code: code.to_string(), message, line: None }];
        self
    }

    /// Names the line at fault in a field of several.
    #[must_use]
    pub fn on_line(mut self, line: usize) -> Self {
        self.errors.iter_mut().for_each(|error| error.line = Some(line));
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_sent_is_told_again_in_plain_letters() {
        let problem = Problem::new(422, ProblemKind::Body, "unknown field \"a\0\u{1b}[2J\"");
        assert_eq!(problem.detail, "unknown field \"a\\u{0}\\u{1b}[2J\"");
        assert!(problem.is(ProblemKind::Body) && !problem.is(ProblemKind::Field));
    }
}
