//! How control over a name is shown to the certification authority.

crate::spelled! {
    /// Methods by their names in the registry of validation methods (RFC 8555,
    /// section 9.7.8), which are also what a CAA record may name (RFC 8657,
    /// section 4).
    #[derive(Default)]
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Method: "validation method" {
        /// A file over plain HTTP (RFC 8555, section 8.3).
        #[default]
        Http = "http-01",
        /// A certificate in a TLS handshake (RFC 8737).
        TlsAlpn = "tls-alpn-01",
        /// A TXT record (RFC 8555, section 8.4); the only one for wildcards.
        Dns = "dns-01",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn methods_are_read_as_they_are_written() {
        for method in Method::ALL {
            assert_eq!(method.as_str().parse(), Ok(*method));
            assert_eq!(serde_json::to_value(method).expect("writes"), method.as_str());
        }
        let unknown = "http".parse::<Method>().expect_err("unknown").to_string();
        assert!(unknown.contains("Use one of: http-01, tls-alpn-01, dns-01."), "{unknown}");
    }
}
