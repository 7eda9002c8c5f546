//! What others answer over HTTP (registries, DNS operators, servers' certificates) is read or
//! refused, whatever octets it is, and what is made of it can be told.
#![no_main]

use std::time::{Duration, SystemTime};

use libfuzzer_sys::fuzz_target;
use nomenta_certs::{brought, x509};
use nomenta_core::one_click::settings::{Pointer, Settings};
use nomenta_core::reading::registration::{Registration, Registries};
use nomenta_fuzz::within_limits;

fuzz_target!(|octets: &[u8]| {
    let at = SystemTime::UNIX_EPOCH + Duration::from_secs(1_790_000_000);
    within_limits(octets.len(), || {
        if let Ok(settings) = Settings::read(octets) {
            assert!(!settings.name().chars().any(char::is_control), "{:?}", settings.name());
            let _ = settings.flow();
        }
        let _ = x509::facts_of(octets);
        let _ = x509::challenge_digest_of(octets);

        let Ok(text) = str::from_utf8(octets) else { return };
        if let Ok(registration) = Registration::read(text, "onswick.example", at.into()) {
            let told = registration.told();
            assert!(!told.chars().any(char::is_control), "{told:?}");
        }
        if let Ok(registries) = Registries::read(text) {
            registries.url("onswick.example");
        }
        let _ = Pointer::parse(text);
        let _ = x509::facts(text);
        let _ = brought::covers(text, "timetable.onswick.example");
    });
});
