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
    /// A name in its own script.
    #[error("The name {written} is in its own script. A zone file has it as {dns}.")]
    OwnScript {
        /// As it stands there.
        written: String,
        /// The same in A-labels.
        dns: String,
    },
    /// A name with a character that no name has, such as a space that parts no words.
    #[error(
        "The name {0} has a character outside of ASCII that no name has. Put a space or a letter in its place."
    )]
    NotAscii(String),
    /// A backslash with nothing that it could mean (RFC 1035, section 5.1).
    #[error(
        "{0} is no escape. Write three digits up to 255 behind a backslash, or the one character that is meant."
    )]
    Escape(String),
    /// A value in the form of RFC 3597 that does not fit.
    #[error(
        "{0} has a value that does not fit it. Behind \\# belong its length in octets and as many in hexadecimal (RFC 3597)."
    )]
    Generic(String),
    /// Words behind a directive's value.
    #[error(
        "{word} has more behind it than its value: {rest}. Put that on a line of its own, or behind a semicolon."
    )]
    Superfluous {
        /// The directive.
        word: String,
        /// The first word too many.
        rest: String,
    },
    /// A carriage return without a line feed.
    #[error(
        "A carriage return stands alone, which some name servers take for a space and others for a line end. Save the file with the line ends of one system."
    )]
    CarriageReturn,
    /// Octets that are no text.
    #[error(
        "There are octets that are not UTF-8, as those of Latin-1 are not. Save the file as UTF-8, or write such octets as a backslash and three digits."
    )]
    NotUtf8,
    /// A byte order mark.
    #[error(
        "The file begins with a byte order mark, which name servers take for a part of the first name. Save it as UTF-8 without one."
    )]
    ByteOrderMark,
    /// A type or a directive's value in quotation marks.
    #[error("\"{0}\" stands in quotation marks, which only texts have. Write it without them.")]
    Quoted(String),
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
