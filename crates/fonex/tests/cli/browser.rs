//! A headless Chromium, driven as a person with a keyboard would, by the DevTools protocol.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::{Message, WebSocket, client};

use crate::util::PATIENCE;

pub struct Browser {
    child: Child,
    socket: WebSocket<TcpStream>,
    profile: tempfile::TempDir,
    number: u64,
    /// What the page complained of.
    pub complaints: Vec<String>,
}

impl Browser {
    pub fn open(page: &Path, fragment: &str) -> Self {
        Self::at(&format!("file://{}{fragment}", page.display()))
    }

    pub fn at(address: &str) -> Self {
        let profile = tempfile::tempdir().unwrap();
        let flags = "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
             --disable-component-update --disable-sync --mute-audio --remote-debugging-port=0 --window-size=1280,800";
        let child = Command::new("chromium")
            .args(flags.split_whitespace())
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .arg("about:blank")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let written = profile.path().join("DevToolsActivePort");
        let port: u16 = until(|| std::fs::read_to_string(&written).ok()?.lines().next()?.parse().ok());
        let target = until(|| {
            let list: Value = serde_json::from_str(&get(port, "/json/list")?).ok()?;
            let page = list.as_array()?.iter().find(|target| target["type"] == "page")?;
            Some(page["webSocketDebuggerUrl"].as_str()?.to_owned())
        });
        let stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        let (socket, _) = client(target, stream).unwrap();
        let mut browser = Self { child, socket, profile, number: 0, complaints: Vec::new() };
        for domain in ["Page", "Runtime", "Log", "Accessibility"] {
            browser.call(&format!("{domain}.enable"), json!({}));
        }
        browser.go(address);
        browser
    }

    /// Calls a method; gives its result.
    pub fn call(&mut self, method: &str, parameters: Value) -> Value {
        self.number += 1;
        let call = json!({ "id": self.number, "method": method, "params": parameters });
        self.socket.send(Message::text(call.to_string())).unwrap();
        loop {
            let Message::Text(text) = self.socket.read().unwrap() else { continue };
            let mut message: Value = serde_json::from_str(&text).unwrap();
            if message["id"] == self.number {
                assert!(message["error"].is_null(), "{method}: {message}");
                return message["result"].take();
            }
            let event = message["method"].as_str().unwrap_or_default();
            let level = message["params"]["entry"]["level"].as_str();
            if event == "Runtime.exceptionThrown" || level == Some("error") {
                self.complaints.push(message.to_string());
            }
        }
    }

    pub fn go(&mut self, address: &str) {
        self.call("Page.navigate", json!({ "url": address }));
        self.wait("document.readyState === 'complete' && location.href !== 'about:blank'");
    }

    /// The value of an expression.
    pub fn value(&mut self, expression: &str) -> Value {
        let parameters = json!({ "expression": expression, "returnByValue": true, "awaitPromise": true });
        let mut result = self.call("Runtime.evaluate", parameters);
        assert!(result["exceptionDetails"].is_null(), "{expression}: {result}");
        result["result"]["value"].take()
    }

    /// Asks until an expression holds.
    pub fn wait(&mut self, expression: &str) {
        let begun = Instant::now();
        while self.value(expression) != true {
            assert!(begun.elapsed() < PATIENCE, "it never came to hold: {expression}");
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Presses and releases a key.
    pub fn press(&mut self, key: &str) {
        let code = match key {
            "Enter" => 13,
            "Tab" => 9,
            "ArrowRight" => 39,
            "ArrowDown" => 40,
            "Home" => 36,
            "End" => 35,
            " " => 32,
            "Escape" => 27,
            "/" => 191,
            other => u32::from(other.to_ascii_uppercase().as_bytes()[0]),
        };
        let text = if key.len() == 1 {
            key
        } else if key == "Enter" {
            "\r"
        } else {
            ""
        };
        let mut event = json!({ "type": "keyDown", "key": key, "windowsVirtualKeyCode": code });
        if !text.is_empty() {
            event["text"] = json!(text);
        }
        self.call("Input.dispatchKeyEvent", event);
        self.call("Input.dispatchKeyEvent", json!({ "type": "keyUp", "key": key, "windowsVirtualKeyCode": code }));
    }

    /// What a screen reader would find: (role, name) of everything that can be focused.
    pub fn controls(&mut self) -> Vec<(String, String)> {
        let tree = self.call("Accessibility.getFullAXTree", json!({}));
        let text = |value: &Value| value["value"].as_str().unwrap_or_default().to_owned();
        let focusable = |node: &&Value| {
            let properties = node["properties"].as_array().cloned().unwrap_or_default();
            let is_it = |p: &Value| p["name"] == "focusable" && p["value"]["value"] == true;
            node["ignored"] != true && node["role"]["value"] != "RootWebArea" && properties.iter().any(is_it)
        };
        let nodes = tree["nodes"].as_array().unwrap();
        nodes.iter().filter(focusable).map(|node| (text(&node["role"]), text(&node["name"]))).collect()
    }

    /// Checks what can be checked of a page by itself: every control has a name, every text stands out from its ground (WCAG 2.2,
    /// 1.4.3), no id stands twice, headings skip no level, and nothing but the page itself scrolls sideways.
    pub fn accessible(&mut self) {
        for (role, name) in self.controls() {
            assert!(!name.trim().is_empty(), "a {role} has no name");
        }
        let low = self.value(
            "(() => {
              const canvas = new OffscreenCanvas(1, 1).getContext('2d', { willReadFrequently: true });
              const rgb = (c) => { canvas.clearRect(0, 0, 1, 1); canvas.fillStyle = c; canvas.fillRect(0, 0, 1, 1); return [...canvas.getImageData(0, 0, 1, 1).data]; };
              const light = ([r, g, b]) => [r, g, b].map((v) => (v /= 255) <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)
                .reduce((sum, v, i) => sum + v * [0.2126, 0.7152, 0.0722][i], 0);
              const ground = (e) => { for (; e; e = e.parentElement) { const c = rgb(getComputedStyle(e).backgroundColor); if (c[3] > 0) return c; } return [255, 255, 255]; };
              const shown = [...document.querySelectorAll('body *')].filter((e) => e.offsetParent && [...e.childNodes].some((n) => n.nodeType === 3 && n.data.trim()));
              return shown.filter((e) => !e.disabled && !e.closest('.hidden')).map((e) => {
                const [a, b] = [light(rgb(getComputedStyle(e).color)), light(ground(e))];
                return [(Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05), e.textContent.slice(0, 30)];
              }).filter(([ratio]) => ratio < 4.5);
            })()",
        );
        assert_eq!(low, json!([]), "text that hardly stands out");
        assert_eq!(self.value("document.documentElement.lang"), "en");
        assert_eq!(self.value("[...document.querySelectorAll('h1')].filter((h) => h.offsetParent).length"), 1);
        let twice = "(() => { const ids = [...document.querySelectorAll('[id]')].map((e) => e.id);
             return ids.filter((id, at) => ids.indexOf(id) !== at); })()";
        assert_eq!(self.value(twice), json!([]), "ids that stand twice");
        let skipped = "[...document.querySelectorAll('h1, h2, h3, h4')].filter((h) => h.offsetParent)
             .map((h) => Number(h.tagName[1])).filter((level, at, all) => at > 0 && level > all[at - 1] + 1)";
        assert_eq!(self.value(skipped), json!([]), "headings that skip a level");
        let wide = "document.documentElement.scrollWidth - document.documentElement.clientWidth";
        assert_eq!(self.value(wide), 0, "the page scrolls sideways");
    }

    /// Shows the page in a window of this width, light or dark.
    pub fn looks(&mut self, width: u32, dark: bool) {
        let size = json!({ "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false });
        self.call("Emulation.setDeviceMetricsOverride", size);
        let scheme = if dark { "dark" } else { "light" };
        self.call(
            "Emulation.setEmulatedMedia",
            json!({ "features": [{ "name": "prefers-color-scheme", "value": scheme }] }),
        );
    }

    /// A picture of the page, where the environment names a folder for pictures in `FONEX_PICTURES`.
    pub fn picture(&mut self, width: u32, height: u32, name: &str) {
        let Some(folder) = std::env::var_os("FONEX_PICTURES") else { return };
        let path = Path::new(&folder).join(name);
        let size = json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600 });
        self.call("Emulation.setDeviceMetricsOverride", size);
        let picture = self.call("Page.captureScreenshot", json!({ "format": "png" }));
        std::fs::write(path, from_base64(picture["data"].as_str().unwrap())).unwrap();
        self.call("Emulation.clearDeviceMetricsOverride", json!({}));
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        drop(self.child.kill());
        drop(self.child.wait());
        // Its helpers may still be writing into the profile while it is deleted.
        drop(std::fs::remove_dir_all(self.profile.path()));
    }
}

fn until<T>(mut found: impl FnMut() -> Option<T>) -> T {
    let begun = Instant::now();
    loop {
        if let Some(found) = found() {
            return found;
        }
        assert!(begun.elapsed() < PATIENCE, "the browser does not answer");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn get(port: u16, path: &str) -> Option<String> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).ok()?;
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    write!(stream, "GET {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n\r\n").ok()?;
    // The browser keeps the connection open: the length says where the answer ends.
    let (mut answer, mut part) = (Vec::new(), [0; 4096]);
    loop {
        let text = String::from_utf8_lossy(&answer).into_owned();
        if let Some((head, body)) = text.split_once("\r\n\r\n") {
            let length = head
                .lines()
                .find_map(|line| line.to_lowercase().strip_prefix("content-length:")?.trim().parse::<usize>().ok())?;
            if body.len() >= length {
                return Some(body.to_owned());
            }
        }
        match stream.read(&mut part).ok()? {
            0 => return None,
            read => answer.extend(&part[..read]),
        }
    }
}

/// Base64 (RFC 4648) without its padding.
pub fn from_base64(text: &str) -> Vec<u8> {
    const SIGNS: &[u8] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let (mut bytes, mut held, mut bits) = (Vec::new(), 0_u32, 0);
    for sign in text.trim_end_matches('=').bytes() {
        held = held << 6 | SIGNS.iter().position(|known| *known == sign).unwrap() as u32;
        bits += 6;
        if bits >= 8 {
            bits -= 8;
            bytes.push((held >> bits) as u8);
            held &= (1 << bits) - 1;
        }
    }
    bytes
}
