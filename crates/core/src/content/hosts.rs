//! Reader for the hosts file, which maps names to addresses before a name server is asked. Format: an address and the names that lead to it,
//! separated by blanks, `#` begins a comment (`HOSTS`, publicly documented with Windows' TCP/IP).

/// Path of the file, relative to Windows' folder.
pub const BELOW_WINDOWS: &str = "System32\\drivers\\etc\\hosts";
/// Limit on the size of the file, in bytes. Lists that block advertisements have a few megabytes.
pub const LARGEST: u64 = 16 << 20;

/// One name in the file, with its address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Number of its line, from 1.
    pub line: usize,
    /// The address that it leads to.
    pub address: String,
    /// The name, as it is written.
    pub name: String,
}

/// Returns every name in the file, in its order.
pub fn entries(content: &[u8]) -> Vec<Entry> {
    let mut found = Vec::new();
    for (number, line) in content.split(|byte| *byte == b'\n').enumerate() {
        let line = String::from_utf8_lossy(line);
        let line = line.strip_prefix('\u{feff}').unwrap_or(&line);
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let Some(address) = words.next() else { continue };
        let named = words.map(|name| Entry { line: number + 1, address: address.to_owned(), name: name.to_owned() });
        found.extend(named);
    }
    found
}

/// Returns the file without these lines, counted from 1; all else stays to the last byte.
pub fn without(content: &[u8], lines: &[usize]) -> Vec<u8> {
    let all = content.split_inclusive(|byte| *byte == b'\n').enumerate();
    all.filter(|(number, _)| !lines.contains(&(number + 1))).flat_map(|(_, line)| line.iter().copied()).collect()
}

/// Whether a name is the domain itself or a name below it.
pub fn is_in_domain(name: &str, domain: &str) -> bool {
    let (name, domain) = (name.trim_end_matches('.').to_lowercase(), domain.to_lowercase());
    name == domain || name.strip_suffix(&domain).is_some_and(|front| front.ends_with('.'))
}

/// Returns the domain that an address on the internet (`https://www.example.com/help`) belongs to: the last two parts of
/// its name, or three where the last two are short, as in `co.uk`. `None` where it has no name with a dot.
pub fn domain_of(url: &str) -> Option<String> {
    let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
    let host = rest.split(['/', '?', '#', ':']).next()?.rsplit('@').next()?.trim_matches('.').to_lowercase();
    let parts: Vec<&str> = host.split('.').collect();
    let is_name = |part: &&str| !part.is_empty() && part.chars().all(|one| one.is_alphanumeric() || one == '-');
    let last = parts.last()?;
    // The last part of an address in numbers is a number.
    if parts.len() < 2 || !parts.iter().all(is_name) || last.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let is_short = last.len() == 2 && parts[parts.len() - 2].len() <= 3 && parts.len() > 2;
    Some(parts[parts.len() - if is_short { 3 } else { 2 }..].join("."))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_read_with_their_lines_and_comments_are_not() {
        let before = &b"\xef\xbb\xbf127.0.0.1 localhost\r\n# 10.0.0.1 unused.example\r\n\r\n"[..];
        let (two, after) = (&b"\t0.0.0.0\ta.example  b.example # c\r\n"[..], &b"::1\n"[..]);
        let content = &[before, two, after].concat();
        let found = entries(content);
        let shown: Vec<(usize, &str, &str)> =
            found.iter().map(|one| (one.line, one.address.as_str(), one.name.as_str())).collect();
        assert_eq!(shown, [(1, "127.0.0.1", "localhost"), (4, "0.0.0.0", "a.example"), (4, "0.0.0.0", "b.example")]);
        assert_eq!(without(content, &[4]), [before, after].concat());
        assert_eq!(&without(content, &[]), content);
        assert_eq!(without(b"1 a\n2 b", &[2]), b"1 a\n");
    }

    #[test]
    fn a_domain_contains_its_own_names_only() {
        for (url, domain) in [
            ("https://www.quernlight.example/help?a#b", Some("quernlight.example")),
            ("http://user@Licence.Quernlight.example:8080", Some("quernlight.example")),
            ("quernlight.example", Some("quernlight.example")),
            ("https://help.quernlight.co.uk", Some("quernlight.co.uk")),
            ("https://quernlight.uk", Some("quernlight.uk")),
            ("https://10.0.0.1/a", None),
            ("https://localhost/", None),
            ("mailto:help", None),
            ("", None),
            ("https://a..example", None),
        ] {
            assert_eq!(domain_of(url).as_deref(), domain, "{url}");
        }
        assert!(is_in_domain("Licence.Quernlight.example.", "quernlight.example"));
        assert!(is_in_domain("quernlight.example", "quernlight.example"));
        assert!(!is_in_domain("otherquernlight.example", "quernlight.example"));
        assert!(!is_in_domain("quernlight.example.org", "quernlight.example"));
    }
}
