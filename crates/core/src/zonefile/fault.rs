//! What is wrong with a master file, and what to do about it.

use thiserror::Error;

use crate::name::dns::LONGEST_NAME;

/// What is wrong at a place of a file.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Fault {
    /// A record of another zone.
    #[error("{owner} lies outside of the zone {zone}. Check the name and the $ORIGIN above it.")]
    Outside {
        /// Its owner.
        owner: String,
        /// The file's zone.
        zone: String,
    },
    /// A directive's time cannot be read.
    #[error("{0} is not a time. Write seconds, such as 3600.")]
    NoTime(String),
    /// A directive without its value.
    #[error("{0} has no value behind it.")]
    NoValue(String),
    /// Another file, which is not there.
    #[error("$INCLUDE leads to another file, which is not read. Put its lines here instead.")]
    Include,
    /// A directive of one server family.
    #[error("{0} is not known. Write out the records that it stands for.")]
    Directive(String),
    /// A quoted owner.
    #[error("The line begins with quotation marks. A name stands without them.")]
    QuotedOwner,
    /// Nothing to take the owner from.
    #[error("The first record has no name before it. Start the line with one, or with @.")]
    NoOwner,
    /// Another class than IN.
    #[error("The class {0} is not of the Internet. Only IN is read.")]
    Class(String),
    /// A name alone.
    #[error("{0} has no type and no value behind it.")]
    NoType(String),
    /// A word where a type belongs.
    #[error("{0} is not a record type.")]
    UnknownType(String),
    /// Too many values, or too few.
    #[error("{rtype} wants {wanted}; {count} values stand behind it, where {fits} belong.")]
    Count {
        /// The type.
        rtype: String,
        /// What belongs there, in words.
        wanted: &'static str,
        /// How many values stand there.
        count: usize,
        /// How many belong there.
        fits: usize,
    },
    /// A value of another kind.
    #[error("{rtype} wants {wanted}, and has {found}.")]
    Value {
        /// The type, or the parameter.
        rtype: String,
        /// What belongs there, in words.
        wanted: &'static str,
        /// What stands there.
        found: String,
    },
    /// Nothing where values belong.
    #[error("{rtype} wants {wanted}.")]
    Nothing {
        /// The type.
        rtype: String,
        /// What belongs there, in words.
        wanted: &'static str,
    },
    /// A string of more than 255 octets (RFC 1035, section 3.3).
    #[error(
        "A string of the TXT record has {0} octets; one may have 255. Split it into several in quotation marks."
    )]
    LongString(usize),
    /// A name of too many characters.
    #[error("The name {0} has more than {LONGEST_NAME} characters with its zone.")]
    LongName(String),
    /// A label of more than 63 characters.
    #[error("A part of the name {0} has more than 63 characters.")]
    LongLabel(String),
    /// An empty label.
    #[error("The name {0} has two dots side by side.")]
    EmptyLabel(String),
    /// Quotation marks with nothing between them.
    #[error("Between the quotation marks is nothing, so the value has no name. Write one without them.")]
    NoName,
    /// White space that no reader takes for it, or worse.
    #[error(
        "The name {0} has a control character in it, which parts no words. Put a space or a tab in its place."
    )]
    Control(String),
    /// A parenthesis too many.
    #[error("A closing parenthesis has no opening one.")]
    Unopened,
    /// A parenthesis too few.
    #[error("The parenthesis is not closed. Add ) behind the last value.")]
    Unclosed,
    /// A quotation mark too few.
    #[error("The quotation mark is not closed on its line.")]
    Unquoted,
}
