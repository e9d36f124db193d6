//! The page of a run on loopback: two addresses, one of them the page, the other what is known at this moment.

use std::convert::Infallible;
use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::{Arc, Mutex};
use std::thread;

use fonex_report::WatchPage;
use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HOST, REFERRER_POLICY, X_CONTENT_TYPE_OPTIONS,
};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;

/// What the page shows, as JSON.
pub type State = Arc<Mutex<String>>;

/// Serves the page until the process ends; 0 takes a free port.
///
/// # Errors
/// When the port is taken.
pub fn serve(port: u16, page: WatchPage, state: State) -> io::Result<SocketAddr> {
    let listener = TcpListener::bind(("127.0.0.1", port))?;
    listener.set_nonblocking(true)?;
    let address = listener.local_addr()?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    thread::Builder::new().name("fonex-watch".to_owned()).spawn(move || {
        runtime.block_on(accept(listener, Arc::new(page), state, address));
    })?;
    Ok(address)
}

async fn accept(listener: TcpListener, page: Arc<WatchPage>, state: State, address: SocketAddr) {
    let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
    loop {
        let Ok((stream, _)) = listener.accept().await else {
            // Out of file descriptors, for one: another moment may have some.
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            continue;
        };
        let (page, state) = (Arc::clone(&page), Arc::clone(&state));
        tokio::spawn(async move {
            let answer = |request: Request<Incoming>| {
                let answer = answered(&request, &page, &state, address);
                async move { Ok::<_, Infallible>(answer) }
            };
            // A browser that goes away in the middle is nobody's concern.
            drop(http1::Builder::new().serve_connection(TokioIo::new(stream), service_fn(answer)).await);
        });
    }
}

fn answered(
    request: &Request<Incoming>,
    page: &WatchPage,
    state: &State,
    address: SocketAddr,
) -> Response<Full<Bytes>> {
    // A page of another site that has its own name point here is not ours.
    let host = request.headers().get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    let ours = [address.to_string(), format!("localhost:{}", address.port())];
    let (status, kind, body) = if !ours.iter().any(|own| own == host) {
        (StatusCode::FORBIDDEN, "text/plain", "ask for this page by its address".to_owned())
    } else if request.method() != Method::GET {
        (StatusCode::METHOD_NOT_ALLOWED, "text/plain", "this page can only be read".to_owned())
    } else {
        match request.uri().path() {
            "/" => (StatusCode::OK, "text/html; charset=utf-8", page.html.clone()),
            "/state" => {
                let state = state.lock().map(|state| state.clone()).unwrap_or_default();
                (StatusCode::OK, "application/json", state)
            }
            // Every browser asks for one.
            "/favicon.ico" => (StatusCode::NO_CONTENT, "image/x-icon", String::new()),
            _ => (StatusCode::NOT_FOUND, "text/plain", "there is nothing here".to_owned()),
        }
    };
    let answer = Response::builder()
        .status(status)
        .header(CONTENT_TYPE, kind)
        .header(CONTENT_SECURITY_POLICY, page.policy.as_str())
        .header(CACHE_CONTROL, "no-store")
        .header(REFERRER_POLICY, "no-referrer")
        .header(X_CONTENT_TYPE_OPTIONS, "nosniff")
        .header("cross-origin-resource-policy", "same-origin")
        .body(Full::new(Bytes::from(body)));
    answer.unwrap_or_else(|_| Response::new(Full::default()))
}
