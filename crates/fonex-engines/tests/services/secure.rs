//! TLS with an authority of our own, HTTP/2, and proxies.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;

use fonex_core::Outcome;
use http_body_util::{BodyExt, Full};
use hyper::body::Bytes;
use hyper::service::service_fn;
use hyper::{Request, Response, body::Incoming};
use hyper_util::rt::{TokioExecutor, TokioIo};
use rustls_pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use serde_json::{Value, json};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;

use crate::util::{engine, hear, service, with};

/// A server that answers each request with the version of HTTP it came by; with TLS where a configuration is given.
fn server(tls: Option<ServerConfig>, two: bool) -> SocketAddr {
    server_of_many(tls, two, 0)
}

/// The same; where it is given a number, it hangs up after each answer, and from its second connection on shakes no hand before more
/// than so many have come.
fn server_of_many(tls: Option<ServerConfig>, two: bool, at_once: usize) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async move {
            let listener = tokio::net::TcpListener::from_std(listener).unwrap();
            let acceptor = tls.map(|config| TlsAcceptor::from(Arc::new(config)));
            let (came, _) = tokio::sync::watch::channel(0);
            while let Ok((stream, _)) = listener.accept().await {
                let (acceptor, mut came_now) = (acceptor.clone(), came.subscribe());
                came.send_modify(|came| *came += 1);
                let held = *came.borrow() > 1;
                tokio::spawn(async move {
                    if held {
                        drop(came_now.wait_for(|came| *came > at_once).await);
                    }
                    match acceptor {
                        None => serve(stream, two, at_once == 0).await,
                        Some(acceptor) => {
                            if let Ok(stream) = acceptor.accept(stream).await {
                                let two = stream.get_ref().1.alpn_protocol() == Some(b"h2");
                                serve(stream, two, at_once == 0).await;
                            }
                        }
                    }
                });
            }
        });
    });
    address
}

async fn serve<S>(stream: S, two: bool, keep: bool)
where
    S: tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin + Send + 'static,
{
    let answer = service_fn(|request: Request<Incoming>| async move {
        let text = json!({"text": format!("{:?}", request.version())}).to_string();
        // A server that does not read a request to its end hangs up after it.
        drop(request.into_body().collect().await);
        Ok::<_, std::convert::Infallible>(Response::new(Full::new(Bytes::from(text))))
    });
    let io = TokioIo::new(stream);
    // A client that goes away is no failure of the test.
    if two {
        drop(hyper::server::conn::http2::Builder::new(TokioExecutor::new()).serve_connection(io, answer).await);
    } else {
        drop(hyper::server::conn::http1::Builder::new().keep_alive(keep).serve_connection(io, answer).await);
    }
}

fn table(url: &str, more: Value) -> Value {
    let request = json!({"url": url, "body": "{audio}"});
    with(json!({"transport": "http", "task": "hear", "retry": {"attempts": 1}, "request": request}), more)
}

/// A certificate for this machine, in a file, and a server that shows it and offers these protocols.
fn own_authority(folder: &Path, protocols: &[&str]) -> (PathBuf, ServerConfig) {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    let file = folder.join("authority.pem");
    std::fs::write(&file, made.cert.pem()).unwrap();
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let mut config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![made.cert.der().clone()], key)
        .unwrap();
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.as_bytes().to_vec()).collect();
    (file, config)
}

#[test]
fn connections_to_a_service_that_agrees_to_http_1_are_opened_side_by_side() {
    const AT_ONCE: usize = 5;
    let folder = tempfile::tempdir().unwrap();
    let (file, config) = own_authority(folder.path(), &["http/1.1"]);
    let url = format!("https://localhost:{}/hear", server_of_many(Some(config), false, AT_ONCE).port());
    let engine = engine(table(&url, json!({"ca_file": file})));
    assert_eq!(hear(engine.as_ref()).outcome, Outcome::Done, "it tells what it agrees to");
    thread::scope(|scope| {
        for _ in 0..=AT_ONCE {
            scope.spawn(|| {
                let answer = hear(engine.as_ref());
                assert_eq!(answer.value.as_ref().map(|heard| heard.text.as_str()), Some("HTTP/1.1"), "{answer:?}");
            });
        }
    });
}

#[test]
fn an_authority_of_our_own_is_trusted_when_named_and_http_2_is_agreed() {
    let folder = tempfile::tempdir().unwrap();
    let (file, config) = own_authority(folder.path(), &["h2", "http/1.1"]);
    let url = format!("https://localhost:{}/hear", server(Some(config), false).port());
    for (version, spoken) in [("auto", "HTTP/2.0"), ("1", "HTTP/1.1"), ("2", "HTTP/2.0")] {
        let trusting = engine(table(&url, json!({"ca_file": file, "http_version": version})));
        let answer = hear(trusting.as_ref());
        assert_eq!(answer.value.as_ref().map(|heard| heard.text.as_str()), Some(spoken), "{answer:?}");
        let noted = &answer.measured.traffic.requests[0];
        assert!(noted.lookup_ms.is_some() && noted.tls_ms.unwrap() > 0.0, "{noted:?}");
        let again = hear(trusting.as_ref());
        assert_eq!(again.measured.traffic.requests[0].reused, Some(true), "{version} {answer:?} {again:?}");
    }
    let distrusting = hear(engine(table(&url, json!({}))).as_ref());
    assert_eq!(distrusting.outcome, Outcome::Unreachable);
    assert!(distrusting.detail.as_ref().unwrap().contains("certificate"), "{distrusting:?}");
}

#[test]
fn http_2_is_spoken_by_prior_knowledge_and_one_connection_serves_all() {
    let url = format!("http://{}/hear", server(None, true));
    let engine = engine(table(&url, json!({"http_version": "2"})));
    let opened = std::sync::atomic::AtomicU32::new(0);
    thread::scope(|scope| {
        for _ in 0..8 {
            scope.spawn(|| {
                let answer = hear(engine.as_ref());
                assert_eq!(answer.value.as_ref().map(|heard| heard.text.as_str()), Some("HTTP/2.0"), "{answer:?}");
                let new = answer.measured.traffic.requests[0].reused == Some(false);
                opened.fetch_add(u32::from(new), std::sync::atomic::Ordering::Relaxed);
            });
        }
    });
    assert_eq!(opened.into_inner(), 1);
}

/// A proxy that tunnels and forwards; it counts what it did in the order of what it was asked.
fn proxy(asked: Arc<std::sync::Mutex<Vec<String>>>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        for client in listener.incoming().map_while(Result::ok) {
            let asked = Arc::clone(&asked);
            thread::spawn(move || relay(client, &asked));
        }
    });
    address
}

fn relay(mut client: TcpStream, asked: &std::sync::Mutex<Vec<String>>) -> Option<()> {
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") {
        client.read_exact(&mut byte).ok()?;
        head.push(byte[0]);
    }
    let text = String::from_utf8(head).ok()?;
    let line = text.lines().next()?.to_owned();
    asked.lock().ok()?.push(line.clone());
    let target = line.split(' ').nth(1)?;
    let mut service = match target.strip_prefix("http://") {
        None => {
            let service = TcpStream::connect(target).ok()?;
            client.write_all(b"HTTP/1.1 200 Connected\r\n\r\n").ok()?;
            service
        }
        Some(rest) => {
            let (host, path) = rest.split_once('/')?;
            let mut service = TcpStream::connect(host).ok()?;
            service.write_all(text.replacen(target, &format!("/{path}"), 1).as_bytes()).ok()?;
            service
        }
    };
    let (mut from, mut to) = (client.try_clone().ok()?, service.try_clone().ok()?);
    thread::spawn(move || std::io::copy(&mut from, &mut to));
    std::io::copy(&mut service, &mut client).ok()?;
    Some(())
}

#[test]
fn proxies_forward_http_and_tunnel_sockets() {
    let (service, asked) = (service(|_| {}), Arc::default());
    let (address, proxy) = (service.address(), proxy(Arc::clone(&asked)));
    let through = json!({"proxy": format!("http://{proxy}")});
    let http = hear(engine(table(&format!("http://{address}/hear"), through.clone())).as_ref());
    assert_eq!(http.outcome, Outcome::Done, "{http:?}");
    let socket = crate::faults::socket_table(&format!("ws://{address}/live"), json!({}));
    let socket = hear(engine(with(socket, through)).as_ref());
    assert_eq!(socket.outcome, Outcome::Done, "{socket:?}");
    let asked = asked.lock().unwrap();
    assert!(asked[0].starts_with("POST http://") && asked[1].starts_with("CONNECT 127.0.0.1:"), "{asked:?}");
}
