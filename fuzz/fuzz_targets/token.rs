//! Texts of any octets are searched for tokens, shown, read back and masked.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::name::mask::{self, Mask};
use nomenta_core::name::token::Token;
use nomenta_core::reading::octets::Octets;
use nomenta_fuzz::within_limits;

fuzz_target!(|input: (Vec<u8>, bool)| {
    let (mut octets, has_token) = input;
    let token = Token::from_random([7; 20]);
    if has_token {
        octets.extend(token.txt_value().bytes());
    }

    let text = Octets::from(octets);
    within_limits(4 * text.as_bytes().len(), || {
        let shown = text.to_string();
        assert_eq!(Octets::unescaped(&shown), text);
        assert!(!shown.contains(char::is_control));

        let hidden = Mask::of([&token]).hide(&shown);
        assert!(!hidden.contains(token.as_str()), "{hidden}");
        mask::candidates(&text.to_text());
    });
});
