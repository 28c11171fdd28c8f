//! What people read of certificates. Source: X.509 in the profile of RFC 5280, section 4.1
//! (<https://www.rfc-editor.org/rfc/rfc5280>); names as RFC 4514 orders them.

/// Returns the common name of a certificate's subject, as RFC 4514 writes it: `CN=Paper Heron,O=…`.
pub fn common_name(subject: &str) -> Option<&str> {
    let start = if subject.starts_with("CN=") { 3 } else { subject.find(",CN=")? + 4 };
    let rest = subject.get(start..)?;
    // A comma of the name itself stands behind a backslash.
    let mut before = ' ';
    let end = rest.find(|c| {
        let is_end = c == ',' && before != '\\';
        before = c;
        is_end
    });
    Some(&rest[..end.unwrap_or(rest.len())])
}

/// What people call whom a certificate is for: the common name, or where there is none all of the name.
pub fn short_name(subject: &str) -> &str {
    common_name(subject).unwrap_or(subject)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn common_names() {
        assert_eq!(common_name("CN=Paper Heron,O=x"), Some("Paper Heron"));
        assert_eq!(common_name("C=FI,CN=Heron\\, Ltd.,O=x"), Some("Heron\\, Ltd."));
        assert_eq!(common_name("O=CN"), None);
    }
}
