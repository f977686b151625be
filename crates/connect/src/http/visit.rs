//! Visits to web pages: performs what the core has planned. What is wrong with a page is what the
//! visit tells; it fails where nothing can be sent, and where nobody knows what became of a form.

use super::{Http, answer::transport, sending::execute};
use crate::{
    Redactor,
    driver::{Called, Driver, Way, unsent},
};
use arvok_core::{
    Period, TRACEPARENT,
    connector::{
        Answer, CallEnd, Failure, VisitPlan,
        visit::{Page, PageCame, PageReader, PageTarget, PageVisit, SeenPage, TargetBase},
    },
    text::cut,
};
use chrono::{DateTime, Utc};
use cookie_store::CookieStore;
use reqwest::{
    Client, Method, Response, StatusCode, Url,
    header::{
        ACCEPT, CONTENT_TYPE, COOKIE, HeaderMap, HeaderValue, LOCATION, ORIGIN, REFERER, SET_COOKIE,
    },
    tls::TlsInfo,
};
use serde_json::{Map, Value, json};
use std::time::{Duration, Instant};

/// How much is read of a page, in bytes.
const MOST_READ: usize = 1 << 20;
/// Most redirects on the way to a page.
const MOST_REDIRECTS: usize = 10;
/// Most nodes of a page, and how long it may take to make them of its text.
const MOST_NODES: usize = 100_000;
const LONGEST_READING: Duration = Duration::from_secs(5);
/// Shortest and longest piece of a page's text that is read at once, in bytes.
const PIECES: (usize, usize) = (8, 1024);
/// Most cookies, and the longest.
const MOST_COOKIES: usize = 100;
const LONGEST_COOKIE: usize = 4096;

/// A visit that is under way.
struct Visitor<'v> {
    http: &'v Http,
    client: Client,
    /// For other origins than the connection's own: it shows no certificate of ours.
    bare: Client,
    way: Way<'v>,
    own: Url,
    /// Other origins to which it may go.
    also: Vec<Url>,
    cookies: CookieStore,
    /// The page that was seen last.
    at: Option<Url>,
    certificate: Value,
}

/// Why a page did not come: the page's fault, or one that ends the call.
enum Missing {
    Page(String),
    Call(Failure),
}

/// A page that came, as text.
struct Loaded {
    came: PageCame,
    text: String,
    is_html: bool,
}

impl Driver<VisitPlan<'_>> for Http {
    async fn perform(
        &self,
        plan: VisitPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let mut visitor = Visitor::new(self, &plan, way)?;
        let mut seen: Vec<SeenPage> = Vec::new();
        // Where the page that was seen last leads; nothing leads to the first.
        let mut target = None;
        for (n, page) in plan.pages().iter().enumerate() {
            let begun = Instant::now();
            let asked = match target.take().unwrap_or_else(|| page.target(None)) {
                Ok(target) => visitor.load(&target).await,
                Err(why) => Err(Missing::Page(why)),
            };
            let now = match asked {
                Ok(loaded) => {
                    let url = loaded.came.url.clone();
                    let next = plan.pages().get(n + 1).cloned();
                    let looking = tokio::task::spawn_blocking({
                        let page = page.clone();
                        move || look(&page, next.as_ref(), &loaded)
                    });
                    match looking.await.unwrap_or_else(|_| Err("it cannot be read".to_owned())) {
                        Ok((now, next)) => {
                            target = next;
                            now
                        }
                        Err(why) => SeenPage::missing(&url, period(begun), why),
                    }
                }
                Err(Missing::Page(why)) => {
                    let url = visitor.at.as_ref().map_or("", Url::as_str);
                    SeenPage::missing(url, period(begun), why)
                }
                Err(Missing::Call(failure)) => return Err(failure),
            };
            let is_wrong = now.wrong.is_some();
            seen.push(now);
            let body = plan.response(&seen, visitor.certificate.clone());
            *last = Some(Answer { status: 0, headers: Map::new(), body });
            if is_wrong {
                break;
            }
        }
        plan.seen(&seen, visitor.certificate).map(Called::Output)
    }
}

/// Reads a page, looks at it, and finds where it leads.
fn look(
    page: &PageVisit,
    next: Option<&PageVisit>,
    loaded: &Loaded,
) -> Result<(SeenPage, Option<Result<PageTarget, String>>), String> {
    let read = if loaded.is_html { read(&loaded.text)? } else { Page::of_text(&loaded.text) };
    let seen = page.see(&loaded.came, &read);
    Ok((seen, next.map(|next| next.target(Some(&read)))))
}

/// Reads a page of HTML. A hostile one may make very many nodes of few letters, or take long over
/// few nodes: the more there are, the shorter are the pieces after which we look.
fn read(text: &str) -> Result<Page, String> {
    let begun = Instant::now();
    let mut reader = PageReader::default();
    let mut rest = text;
    while !rest.is_empty() {
        let nodes = reader.nodes();
        if nodes > MOST_NODES {
            return Err(format!("it has more than {MOST_NODES} nodes"));
        }
        if begun.elapsed() > LONGEST_READING {
            let most = LONGEST_READING.as_secs();
            return Err(format!("it is nested so that it cannot be read within {most} s"));
        }
        let long = (2 * MOST_NODES / nodes.max(1)).clamp(PIECES.0, PIECES.1);
        let (piece, more) = rest.split_at(rest.ceil_char_boundary(long.min(rest.len())));
        reader.read(piece);
        rest = more;
    }
    Ok(reader.finish())
}

fn period(since: Instant) -> Period {
    Period::from_millis(since.elapsed().as_millis().try_into().unwrap_or(u64::MAX))
}

impl<'v> Visitor<'v> {
    fn new(http: &'v Http, plan: &VisitPlan<'_>, way: Way<'v>) -> Result<Self, Failure> {
        let client = http.clients.for_connection(way.credential, way.authorities)?;
        let bare = http.clients.for_connection(None, way.authorities)?;
        let address = |text: &str| {
            Url::parse(text).map_err(|e| unsent(format!("{text} is not an address: {e}")))
        };
        let own = address(way.base.trim_end_matches('/'))?;
        let also = plan.also().iter().map(|origin| address(origin)).collect::<Result<_, _>>()?;
        let cookies = CookieStore::default();
        Ok(Self { http, client, bare, way, own, also, cookies, at: None, certificate: Value::Null })
    }

    /// Opens a page and whatever it leads on to.
    async fn load(&mut self, target: &PageTarget) -> Result<Loaded, Missing> {
        let begun = Instant::now();
        let mut url = self.address(target)?;
        let mut form = target.fields.clone().filter(|_| target.is_post);
        let mut method = if target.is_post { Method::POST } else { Method::GET };
        for _ in 0..=MOST_REDIRECTS {
            self.may_go(&url)?;
            let (response, hidden) = self.ask(&method, &url, form.as_deref()).await?;
            self.keep_cookies(&response, &url);
            self.at = Some(url.clone());
            let Some(to) = redirect(&response) else {
                return self.read(response, hidden, url, begun, &method).await;
            };
            let next = url.join(&to).map_err(|_| {
                Missing::Page(format!("it leads on to `{}`, no address", cut(&to, 200)))
            })?;
            // RFC 9110, section 15.4: the others are asked for in the same way again.
            if !matches!(response.status().as_u16(), 307 | 308) {
                (method, form) = (Method::GET, None);
            }
            url = next;
        }
        Err(Missing::Page(format!("it leads on more than {MOST_REDIRECTS} times")))
    }

    fn address(&self, target: &PageTarget) -> Result<Url, Missing> {
        let no_address = |_| {
            let shown = cut(&target.address, 200);
            Missing::Page(format!("`{shown}` is no address"))
        };
        let at = self.at.as_ref().unwrap_or(&self.own);
        let parsed = match &target.base {
            TargetBase::Connection => {
                Url::parse(&format!("{}{}", self.way.base.trim_end_matches('/'), target.address))
            }
            TargetBase::Page => at.join(&target.address),
            TargetBase::Named(base) => at.join(base).and_then(|base| base.join(&target.address)),
        };
        let mut url = parsed.map_err(no_address)?;
        url.set_fragment(None);
        if let Some(fields) = target.fields.as_deref().filter(|_| !target.is_post) {
            url.set_query(Some(fields));
        }
        Ok(url)
    }

    /// Refuses an address of any other origin than the connection's own and those of `also`: pages
    /// and redirects have a hand in where it leads.
    fn may_go(&self, url: &Url) -> Result<(), Missing> {
        let to = url.origin();
        if to == self.own.origin() || self.also.iter().any(|also| also.origin() == to) {
            return Ok(());
        }
        let to = to.ascii_serialization();
        Err(Missing::Page(format!("it leads to {to}, where this visit does not go")))
    }

    async fn ask(
        &mut self,
        method: &Method,
        url: &Url,
        form: Option<&str>,
    ) -> Result<(Response, Vec<String>), Missing> {
        let mut url = url.clone();
        // Names and passwords in addresses are shown to nobody.
        let _ = url.set_username("").and_then(|()| url.set_password(None));
        let is_own = url.origin() == self.own.origin();
        let client = if is_own { &self.client } else { &self.bare };
        let mut asking = client
            .request(method.clone(), url.clone())
            .timeout(self.way.timeout)
            .header(ACCEPT, "text/html,application/xhtml+xml;q=0.9,*/*;q=0.8");
        if let Some(trace) = self.way.trace {
            asking = asking.header(TRACEPARENT, trace.to_string());
        }
        let pairs: Vec<String> = self
            .cookies
            .get_request_values(&url)
            .map(|(name, value)| format!("{name}={value}"))
            .collect();
        if !pairs.is_empty() {
            asking = asking.header(COOKIE, pairs.join("; "));
        }
        // As browsers do by default (Referrer Policy: the whole address only to the same origin).
        if let Some(at) = &self.at {
            let own = at.origin().ascii_serialization();
            let referer = if at.origin() == url.origin() {
                at.as_str().to_owned()
            } else {
                format!("{own}/")
            };
            asking = asking.header(REFERER, referer);
            if *method == Method::POST {
                asking = asking.header(ORIGIN, own);
            }
        }
        if let Some(fields) = form {
            asking = asking
                .header(CONTENT_TYPE, "application/x-www-form-urlencoded")
                .body(fields.to_owned());
        }
        let base = url.origin().ascii_serialization();
        let failed = |e: &reqwest::Error| transport(e, &base, self.way.timeout);
        let request = asking.build().map_err(|e| Missing::Call(failed(&e)))?;
        let answered = if is_own {
            execute(&self.http.credentials, client, self.way, request).await
        } else {
            let answered = client.execute(request).await;
            answered.map(|response| (response, Vec::new())).map_err(|e| failed(&e))
        };
        let (response, hidden) = answered.map_err(|failure| ended(failure, method))?;
        if is_own && self.certificate.is_null() {
            self.certificate = certificate(&response, Utc::now());
        }
        Ok((response, hidden))
    }

    fn keep_cookies(&mut self, response: &Response, url: &Url) {
        for cookie in response.headers().get_all(SET_COOKIE) {
            let room = self.cookies.iter_any().count() < MOST_COOKIES;
            if let (true, Ok(cookie)) = (room && cookie.len() <= LONGEST_COOKIE, cookie.to_str()) {
                // One that does not fit its page is none, as for a browser.
                let _ = self.cookies.parse(cookie, url);
            }
        }
    }

    async fn read(
        &self,
        mut response: Response,
        hidden: Vec<String>,
        url: Url,
        begun: Instant,
        method: &Method,
    ) -> Result<Loaded, Missing> {
        let (status, mut bytes, mut is_cut) = (response.status(), Vec::new(), false);
        let (is_html, charset) = kind(response.headers());
        loop {
            match response.chunk().await {
                Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
                Ok(None) => break,
                Err(e) => {
                    let base = url.origin().ascii_serialization();
                    return Err(ended(transport(&e, &base, self.way.timeout), method));
                }
            }
            if bytes.len() > MOST_READ {
                bytes.truncate(MOST_READ);
                is_cut = true;
                break;
            }
        }
        let encoding = charset
            .as_deref()
            .or_else(|| is_html.then(|| named_in(&bytes)).flatten())
            .and_then(|name| encoding_rs::Encoding::for_label(name.as_bytes()));
        let text = encoding.unwrap_or(encoding_rs::UTF_8).decode(&bytes).0;
        let text = Redactor::new(hidden).hidden(&text.replace('\0', "\u{fffd}")).into_owned();
        let came =
            PageCame { url: url.to_string(), status: status.as_u16(), took: period(begun), is_cut };
        Ok(Loaded { came, text, is_html })
    }
}

/// What an error means for a visit: what was asked for by POST may have been done.
fn ended(failure: Failure, method: &Method) -> Missing {
    let is_known = match failure.end {
        // Nobody was there.
        CallEnd::NotSent => !failure.lasting,
        CallEnd::Unknown => *method == Method::GET,
        CallEnd::Refused | CallEnd::Done => false,
    };
    if is_known { Missing::Page(failure.message) } else { Missing::Call(failure) }
}

/// Where an answer leads on to.
fn redirect(response: &Response) -> Option<String> {
    let leads = matches!(
        response.status(),
        StatusCode::MOVED_PERMANENTLY
            | StatusCode::FOUND
            | StatusCode::SEE_OTHER
            | StatusCode::TEMPORARY_REDIRECT
            | StatusCode::PERMANENT_REDIRECT
    );
    let to = response.headers().get(LOCATION).filter(|_| leads)?;
    Some(String::from_utf8_lossy(to.as_bytes()).into_owned())
}

/// Whether an answer is HTML, and in which encoding it says that it is.
fn kind(headers: &HeaderMap) -> (bool, Option<String>) {
    let text = headers.get(CONTENT_TYPE).map(HeaderValue::as_bytes).unwrap_or_default();
    let text = String::from_utf8_lossy(text).to_ascii_lowercase();
    let mut parts = text.split(';').map(str::trim);
    let media = parts.next().unwrap_or_default();
    let is_html = matches!(media, "" | "text/html" | "application/xhtml+xml");
    let charset = parts.find_map(|part| part.strip_prefix("charset="));
    (is_html, charset.map(|name| name.trim_matches('"').to_owned()))
}

/// The encoding that a page names at its beginning.
fn named_in(bytes: &[u8]) -> Option<&str> {
    let head = bytes.get(..1024).unwrap_or(bytes);
    let at = head.windows(8).position(|part| part.eq_ignore_ascii_case(b"charset="))?;
    let rest = head.get(at + 8..)?;
    let rest = rest.strip_prefix(b"\"").or_else(|| rest.strip_prefix(b"'")).unwrap_or(rest);
    let end = rest.iter().position(|b| !b.is_ascii_alphanumeric() && !b"-_:".contains(b))?;
    std::str::from_utf8(&rest[..end]).ok()
}

/// What is known of the certificate that was shown; null where none was.
fn certificate(response: &Response, now: DateTime<Utc>) -> Value {
    let Some(shown) = response.extensions().get::<TlsInfo>().and_then(TlsInfo::peer_certificate)
    else {
        return Value::Null;
    };
    let Ok((_, shown)) = x509_parser::parse_x509_certificate(shown) else { return Value::Null };
    let Some(ends) = DateTime::from_timestamp(shown.validity().not_after.timestamp(), 0) else {
        return Value::Null;
    };
    json!({
        "subject": shown.subject().to_string(),
        "issuer": shown.issuer().to_string(),
        "not_after": ends.to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
        "days_left": (ends - now).num_days(),
    })
}
