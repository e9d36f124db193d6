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
