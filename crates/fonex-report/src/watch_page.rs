//! The page that follows a run: the look of the report, and a program that asks for what is new.

use minijinja::value::Serde;
use minijinja::{AutoEscape, Environment};
use serde::Serialize;

use crate::RenderError;
use crate::script::{LOOK, sum, watch_program};

/// A page with the policy that a server must send with it.
#[derive(Debug, Clone)]
pub struct WatchPage {
    /// HTML.
    pub html: String,
    /// The value of the `Content-Security-Policy` header.
    pub policy: String,
}

#[derive(Serialize)]
struct Shown<'s> {
    style: &'static str,
    script: &'s str,
    version: &'s str,
}

const TEMPLATE: &str = include_str!("../templates/watch.html");

/// Writes the page. It asks for `state` beside itself.
///
/// # Errors
/// When the template and the data do not fit, which the tests rule out.
pub fn watch_page(version: &str) -> Result<WatchPage, RenderError> {
    let script = watch_program();
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.add_template("watch.html", TEMPLATE)?;
    let shown = Shown { style: LOOK, script: &script, version };
    let html = environment.get_template("watch.html")?.render(Serde(shown))?;
    let policy = format!(
        "default-src 'none'; style-src 'sha256-{}'; script-src 'sha256-{}'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
        sum(LOOK),
        sum(&script)
    );
    Ok(WatchPage { html, policy })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_page_holds_what_its_policy_lets_through() {
        let page = watch_page("<1>").unwrap();
        assert!(page.html.contains("&lt;1&gt;") && page.html.contains(LOOK) && page.html.contains(&watch_program()));
        assert!(page.policy.contains(&sum(&watch_program())) && !page.policy.contains("unsafe"));
    }
}
