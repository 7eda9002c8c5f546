//! Whatever is pasted as a name gives a name that is read again as itself, or a
//! message of a line.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::name::lookalike::Lookalike;
use nomenta_core::name::subject::Subject;
use nomenta_fuzz::within_limits;

fuzz_target!(|typed: &str| {
    within_limits(typed.len(), || match Subject::parse(typed) {
        Ok(subject) => {
            assert_eq!(Subject::parse(&subject.to_string()).as_ref(), Ok(&subject));
            assert!(!subject.to_unicode().is_empty());
            drop(Lookalike::of(&subject.host).map(|lookalike| lookalike.to_string()));
        }
        Err(error) => {
            let told = error.to_string();
            assert!(told.chars().count() < 400 && !told.contains(char::is_control), "{told:?}");
        }
    });
});
