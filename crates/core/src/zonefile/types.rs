//! The record types that a master file may hold (IANA registry of resource
//! record types).

use std::borrow::Cow;

use super::fault::Fault;
use crate::name::plain::shown;
use crate::reading::record::RecordType;

/// What a master file calls a type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// Its values are looked into.
    Known(RecordType),
    /// Redirects whole subtrees (RFC 6672); asked for by nobody, and seen in
    /// answers.
    Dname,
    /// Its values are not looked into.
    Other(&'static str),
    /// A number that the registry has no name for, so that its values have no form
    /// of their own (RFC 3597, section 5).
    Unnamed(u16),
}

/// DNAME has a kind of its own.
const DNAME: (&str, u16) = ("DNAME", 39);

/// Types whose values are not looked into, with their numbers.
const OTHERS: [(&str, u16); 76] = [
    ("A6", 38),
    ("AFSDB", 18),
    ("AMTRELAY", 260),
    ("APL", 42),
    ("ATMA", 34),
    ("AVC", 258),
    ("BRID", 68),
    ("CDNSKEY", 60),
    ("CDS", 59),
    ("CERT", 37),
    ("CLA", 263),
    ("CSYNC", 62),
    ("DHCID", 49),
    ("DLV", 32769),
    ("DOA", 259),
    ("DSYNC", 66),
    ("EID", 31),
    ("EUI48", 108),
    ("EUI64", 109),
    ("GID", 102),
    ("GPOS", 27),
    ("HHIT", 67),
    ("HINFO", 13),
    ("HIP", 55),
    ("IPN", 264),
    ("IPSECKEY", 45),
    ("ISDN", 20),
    ("KEY", 25),
    ("KX", 36),
    ("L32", 105),
    ("L64", 106),
    ("LOC", 29),
    ("LP", 107),
    ("MB", 7),
    ("MD", 3),
    ("MF", 4),
    ("MG", 8),
    ("MINFO", 14),
    ("MR", 9),
    ("NAPTR", 35),
    ("NID", 104),
    ("NIMLOC", 32),
    ("NINFO", 56),
    ("NSAP", 22),
    ("NSAP-PTR", 23),
    ("NSEC", 47),
    ("NSEC3", 50),
    ("NSEC3PARAM", 51),
    ("NULL", 10),
    ("NXT", 30),
    ("OPENPGPKEY", 61),
    ("PTR", 12),
    ("PX", 26),
    ("RESINFO", 261),
    ("RKEY", 57),
    ("RP", 17),
    ("RRSIG", 46),
    ("RT", 21),
    ("SIG", 24),
    ("SINK", 40),
    ("SMIMEA", 53),
    ("SPF", 99),
    ("SRV", 33),
    ("SSHFP", 44),
    ("SVCB", 64),
    ("TA", 32768),
    ("TALINK", 58),
    ("TLSA", 52),
    ("UID", 101),
    ("UINFO", 100),
    ("UNSPEC", 103),
    ("URI", 256),
    ("WALLET", 262),
    ("WKS", 11),
    ("X25", 19),
    ("ZONEMD", 63),
];

/// Types that a question or a packet has, and no zone (RFC 6895, section 3.1).
fn is_of_questions(number: u16) -> bool {
    matches!(number, 0 | 41 | 128..=255)
}

impl Kind {
    /// Reads the name of a type, or `TYPE` and its number.
    pub(super) fn read(word: &str) -> Result<Self, Fault> {
        let mut word = Cow::Borrowed(word);
        if word.bytes().any(|byte| byte.is_ascii_lowercase()) {
            word.to_mut().make_ascii_uppercase();
        }
        let unknown = || Fault::UnknownType(shown(&word));
        let kind = match word.strip_prefix("TYPE").map(str::parse::<u16>) {
            Some(Ok(number)) => Self::numbered(number),
            _ => Self::named(&word).ok_or_else(unknown)?,
        };

        match kind {
            Self::Unnamed(number) if is_of_questions(number) => Err(unknown()),
            kind => Ok(kind),
        }
    }

    fn named(word: &str) -> Option<Self> {
        if let Some(known) = RecordType::ALL.iter().find(|known| known.as_str() == word) {
            return Some(Self::Known(*known));
        }
        if word == DNAME.0 {
            return Some(Self::Dname);
        }
        OTHERS.iter().find(|(name, _)| *name == word).map(|(name, _)| Self::Other(name))
    }

    fn numbered(number: u16) -> Self {
        if let Some(known) = RecordType::ALL.iter().find(|known| known.number() == number) {
            return Self::Known(*known);
        }
        if number == DNAME.1 {
            return Self::Dname;
        }
        let other = OTHERS.iter().find(|(_, own)| *own == number);
        other.map_or(Self::Unnamed(number), |(name, _)| Self::Other(name))
    }

    /// The name that the registry has for it, else its number.
    pub(super) fn name(self) -> String {
        match self {
            Self::Known(known) => known.to_string(),
            Self::Dname => DNAME.0.to_owned(),
            Self::Other(name) => name.to_owned(),
            Self::Unnamed(number) => format!("TYPE{number}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_type_goes_by_its_name_or_its_number() {
        let read = |word: &str| Kind::read(word).map(Kind::name);
        for (word, want) in
            [("a", "A"), ("TYPE1", "A"), ("Type257", "CAA"), ("TYPE39", "DNAME"), ("srv", "SRV")]
        {
            assert_eq!(read(word).as_deref(), Ok(want), "{word}");
        }
        assert_eq!(read("TYPE33").as_deref(), Ok("SRV"));
        assert_eq!(read("TYPE65280").as_deref(), Ok("TYPE65280"));
        for word in
            ["ALIAS", "TYPE0", "TYPE251", "TYPE65536", "ANY", "AXFR", "OPT", "MAILB", "TYPE", "TYPE-1", ""]
        {
            assert!(matches!(read(word), Err(Fault::UnknownType(_))), "{word}");
        }
    }
}
