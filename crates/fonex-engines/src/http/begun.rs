//! Whether a service can have begun with a request that got no answer, which decides whether a repeat is safe.

use hyper::Method;

use super::connections::Sender;
use crate::RetryAdvice;

/// What is known of a request that got no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Begun {
    /// The connection was over before anything of the request arrived: another connection is no further attempt.
    Stale,
    /// The service refused it unread.
    Refused,
    /// It may have been read, and acted upon.
    Perhaps,
}

impl Begun {
    /// Reads it off an error of HTTP and the connection it came over.
    ///
    /// Nothing has begun where the request was never written; where the service hung up without having acknowledged one of its bytes (TCP); where its stream was
    /// refused (RFC 9113, section 8.7); and where the service went away naming an earlier stream as its last (section 6.8), which h2
    /// tells to later streams only.
    pub(super) fn read(error: &hyper::Error, sender: &Sender) -> Self {
        if error.is_canceled() {
            return Self::Stale;
        }
        match sender {
            Sender::One(one, _) if one.moments.nothing_arrived() => Self::Stale,
            Sender::One(..) => Self::Perhaps,
            Sender::Two(_) => match cause(error) {
                Some(h2) if h2.is_go_away() && h2.is_remote() => Self::Stale,
                Some(h2) if h2.is_reset() && h2.is_remote() && h2.reason() == Some(h2::Reason::REFUSED_STREAM) => {
                    Self::Refused
                }
                _ => Self::Perhaps,
            },
        }
    }

    /// What may be done. Methods that are idempotent may be repeated by anybody (RFC 9110, section 9.2.2); others where the bench file
    /// says so.
    pub(super) fn advice(self, may_repeat: bool) -> RetryAdvice {
        if self != Self::Perhaps || may_repeat { RetryAdvice::Repeat(None) } else { RetryAdvice::Leave }
    }
}

/// Whether a request may be done twice without harm.
pub(super) fn may_repeat(method: &Method, declared_safe: bool) -> bool {
    declared_safe || method.is_idempotent()
}

fn cause(error: &hyper::Error) -> Option<&h2::Error> {
    use std::error::Error;
    let mut cause: Option<&(dyn Error + 'static)> = error.source();
    while let Some(inner) = cause {
        if let Some(h2) = inner.downcast_ref::<h2::Error>() {
            return Some(h2);
        }
        cause = inner.source();
    }
    None
}
