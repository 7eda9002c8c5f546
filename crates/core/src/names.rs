//! Plain DNS names as text: owner names may hold underscores, so they are not
//! [`Hostname`](crate::hostname::Hostname)s. All are absolute, lower case and
//! without the root dot; the root itself is the empty string.

/// Lower case, without the trailing dot: the one spelling used inside.
pub fn normal(name: &str) -> String {
    name.trim_end_matches('.').to_ascii_lowercase()
}

/// Whether `name` is `zone` or lies under it.
pub fn is_within(name: &str, zone: &str) -> bool {
    zone.is_empty() || name == zone || name.strip_suffix(zone).is_some_and(|rest| rest.ends_with('.'))
}

/// The name one label up; the parent of a top-level name is the root.
pub fn parent(name: &str) -> &str {
    name.split_once('.').map_or("", |(_, rest)| rest)
}

/// `name` and each of its ancestors up to the top level, root left out.
pub fn climb(name: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(name), |n| Some(parent(n))).take_while(|n| !n.is_empty())
}

/// What to type into a box that adds the zone by itself: the name without the
/// zone, or `@` at the apex (RFC 1035, section 5.1).
pub fn relative(name: &str, zone: &str) -> String {
    if name == zone {
        return "@".into();
    }
    match name.strip_suffix(zone).and_then(|rest| rest.strip_suffix('.')) {
        Some(host) if !zone.is_empty() => host.to_owned(),
        _ => name.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn relative_hosts_follow_the_zone() {
        for (name, zone, want) in [
            ("onswick.example", "onswick.example", "@"),
            ("www.onswick.example", "onswick.example", "www"),
            ("_c.www.onswick.example", "onswick.example", "_c.www"),
            ("www.other.example", "onswick.example", "www.other.example"),
            ("myonswick.example", "onswick.example", "myonswick.example"),
        ] {
            assert_eq!(relative(name, zone), want);
        }
    }

    #[test]
    fn within_respects_label_borders() {
        assert!(is_within("a.onswick.example", "onswick.example"));
        assert!(is_within("onswick.example", ""));
        assert!(!is_within("myonswick.example", "onswick.example"));
    }

    #[test]
    fn climbing_ends_at_the_top_level() {
        let names: Vec<_> = climb("www.onswick.example").collect();
        assert_eq!(names, ["www.onswick.example", "onswick.example", "example"]);
    }
}
