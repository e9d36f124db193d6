//! Numbers in digits, as all languages share them.

pub(super) fn is_digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit())
}

pub(super) fn is_decimal(text: &str) -> bool {
    text.split_once('.').is_some_and(|(whole, part)| is_digits(whole) && is_digits(part))
}

/// A decimal in digits times a power of ten, exactly.
pub(super) fn times(digits: &str, factor: u64) -> Option<String> {
    let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
    let scaled: u64 = format!("{whole}{part}").parse().ok()?;
    let product = scaled.checked_mul(factor)?;
    let by = 10_u64.checked_pow(part.len() as u32)?;
    (product % by == 0).then(|| (product / by).to_string())
}

/// Groups of three digits or more in a row are one number that was written in groups: "555 1234".
pub(super) fn join_groups(tokens: Vec<String>) -> Vec<String> {
    let mut joined: Vec<String> = Vec::with_capacity(tokens.len());
    let is_group = |token: &str| token.len() >= 3 && is_digits(token);
    let mut last_is_group = false;
    for token in tokens {
        let group = is_group(&token);
        match joined.last_mut() {
            Some(last) if group && last_is_group => last.push_str(&token),
            _ => joined.push(token),
        }
        last_is_group = group;
    }
    joined
}
