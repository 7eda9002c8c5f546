//! Enums of words: each word is spelled once, and read, written and listed from
//! that one spelling.

use thiserror::Error;

use crate::name::plain::shown;

/// A word that an enum does not have.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{given} is no {what}. Use one of: {}.", .known.join(", "))]
pub struct UnknownWord {
    /// What the enum is of.
    pub what: &'static str,
    /// The word, cut to a length that fits a line.
    pub given: String,
    /// The words that it has.
    pub known: Vec<&'static str>,
}

impl UnknownWord {
    /// For a word that was given for `what`.
    pub fn new(what: &'static str, given: &str, known: Vec<&'static str>) -> Self {
        Self { what, given: shown(given), known }
    }
}

// A word is taken as a token, not as a literal: schemas are derived from what
// stands in the attribute, and a literal would reach it in wrapping.

/// Defines an enum of words, with `ALL`, [`as_str`], [`Display`], [`FromStr`]
/// and serde in that spelling. Attributes are kept, so an enum that goes over the
/// wire derives its OpenAPI schema from the same words.
///
/// ```
/// nomenta_core::spelled! {
///     /// Days on which the ferry runs.
///     pub enum Day: "day" {
///         /// From Monday to Friday.
///         Weekday = "weekday",
///         /// Saturday and Sunday.
///         Weekend = "weekend",
///     }
/// }
///
/// assert_eq!("weekend".parse(), Ok(Day::Weekend));
/// assert_eq!(Day::Weekday.as_str(), "weekday");
/// let unknown = "someday".parse::<Day>().unwrap_err();
/// assert_eq!(unknown.to_string(), "someday is no day. Use one of: weekday, weekend.");
/// ```
///
/// [`as_str`]: str
/// [`Display`]: std::fmt::Display
/// [`FromStr`]: std::str::FromStr
#[macro_export]
macro_rules! spelled {
    (
        $(#[$meta:meta])*
        pub enum $name:ident: $what:literal {
            $( $(#[$inner:meta])* $variant:ident = $word:tt, )+
        }
    ) => {
        $(#[$meta])*
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash,
            $crate::serde::Serialize, $crate::serde::Deserialize,
        )]
        #[serde(crate = "nomenta_core::serde")]
        pub enum $name {
            $( $(#[$inner])* #[serde(rename = $word)] $variant, )+
        }

        impl $name {
            /// Every one, in order.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// Its one spelling.
            pub fn as_str(self) -> &'static str {
                match self {
                    $( Self::$variant => $word, )+
                }
            }
        }

        impl ::std::fmt::Display for $name {
            fn fmt(&self, f: &mut ::std::fmt::Formatter<'_>) -> ::std::fmt::Result {
                f.pad(self.as_str())
            }
        }

        impl ::std::str::FromStr for $name {
            type Err = $crate::spelled::UnknownWord;

            fn from_str(word: &str) -> ::std::result::Result<Self, Self::Err> {
                match word {
                    $( $word => Ok(Self::$variant), )+
                    _ => Err($crate::spelled::UnknownWord::new($what, word, vec![$($word),+])),
                }
            }
        }
    };
}
