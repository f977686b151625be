//! Arguments as one line for a POSIX shell (XCU 2.2.2): between single quotes every character
//! stands for itself.

/// An argument as a word of a line. Words that mean nothing to a shell stay readable.
pub(super) fn quoted(argument: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_@%+:,./-".contains(c);
    if !argument.is_empty() && argument.chars().all(plain) {
        return argument.to_owned();
    }
    format!("'{}'", argument.replace('\'', r"'\''"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_shell_would_read_is_put_between_quotes() {
        let each = ["nginx.service", "", "a b", "it's", "$(id)", "a=b", "~", "*", "a\nb", "é"];
        insta::assert_snapshot!(
            each.map(quoted).join(" "),
            @r"
            nginx.service '' 'a b' 'it'\''s' '$(id)' 'a=b' '~' '*' 'a
            b' 'é'
            "
        );
    }
}
