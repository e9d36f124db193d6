//! Turns a panic in a trial into an outcome: one trial is lost, not the run.

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};

use futures_util::FutureExt;

use crate::{Answer, Outcome};

/// Runs `work` and returns its value, or what it panicked with.
///
/// # Errors
/// The message of the panic.
pub fn caught<T>(work: impl FnOnce() -> T) -> Result<T, String> {
    catch_unwind(AssertUnwindSafe(work)).map_err(|payload| panic_message(payload.as_ref()))
}

/// Awaits a call of an engine; a panic is the outcome `broken`.
pub(crate) async fn caught_call<T>(call: impl Future<Output = Answer<T>>) -> Answer<T> {
    let ended = AssertUnwindSafe(call).catch_unwind().await;
    ended.unwrap_or_else(|payload| Answer::failed(Outcome::Broken, panic_message(payload.as_ref())))
}

/// Describes a panic by its payload.
pub fn panic_message(payload: &(dyn Any + Send)) -> String {
    let text = payload.downcast_ref::<&str>().copied();
    let text = text.or_else(|| payload.downcast_ref::<String>().map(String::as_str));
    format!("Fonex failed internally: {}", text.unwrap_or("no message"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_an_error_with_its_message() {
        assert_eq!(caught(|| 7), Ok(7));
        assert_eq!(caught(|| panic!("static")).unwrap_err(), "Fonex failed internally: static");
        let number = 3;
        assert_eq!(caught(|| panic!("number {number}")).unwrap_err(), "Fonex failed internally: number 3");
    }
}
