//! Commands on other machines, by the SSH client that is there.

/// The words with which a command is run at `[USER@]HOST[:PORT]`; an IPv6 address stands in brackets (RFC 3986 section
/// 3.2.2). `None` if it is none of that.
pub(crate) fn words(text: &str, command: &[&str]) -> Option<Vec<String>> {
    let text = text.strip_suffix('/').unwrap_or(text);
    let (user, rest) = match text.rsplit_once('@') {
        Some((user, rest)) => (Some(user), rest),
        None => (None, text),
    };
    let (host, port) = match rest.strip_prefix('[') {
        Some(rest) => {
            let (host, behind) = rest.split_once(']')?;
            (host, if behind.is_empty() { None } else { Some(behind.strip_prefix(':')?) })
        }
        None => match rest.split_once(':') {
            Some((host, port)) => (host, Some(port)),
            None => (rest, None),
        },
    };
    // Nothing of it may be taken for an option.
    let plain = |word: &str| {
        let good = |char: char| char.is_alphanumeric() || "._-:%".contains(char);
        !word.is_empty() && !word.starts_with('-') && word.chars().all(good)
    };
    if !plain(host) || user.is_some_and(|user| !plain(user)) {
        return None;
    }
    let mut words = vec!["ssh".to_owned(), "-T".to_owned()];
    if let Some(port) = port {
        words.extend(["-p".to_owned(), port.parse::<u16>().ok()?.to_string()]);
    }
    if let Some(user) = user {
        words.extend(["-l".to_owned(), user.to_owned()]);
    }
    words.extend(["--".to_owned(), host.to_owned()]);
    words.extend(command.iter().map(|it| (*it).to_owned()));
    Some(words)
}
