//! How a passenger begins to book: a form with a field that only its own page knows, a cookie, and
//! the sailings of the day behind it.

use super::{Kept, Site};
use actix_web::{
    HttpRequest, HttpResponse,
    cookie::Cookie,
    http::header::{LOCATION, SET_COOKIE},
    web,
};
use serde::Deserialize;

/// The cookie by which a passenger is known.
const COOKIE: &str = "passenger";
/// Passengers that are remembered.
const MOST: u64 = 1_000;
const PIERS: [&str; 3] = ["Nessfold", "Orrin Sound", "Quill"];

/// Who is about to book.
#[derive(Debug, Default)]
pub(super) struct Passengers {
    /// How many came.
    came: u64,
}

impl Passengers {
    /// The next, by a number.
    fn next(&mut self) -> u64 {
        self.came += 1;
        self.came
    }

    /// Whether the cookie of a request is that of one who came not too long ago.
    fn knows(&self, number: u64) -> bool {
        number >= 1 && number <= self.came && self.came - number < MOST
    }
}

#[derive(Deserialize)]
pub(super) struct Search {
    token: String,
    from: String,
    date: String,
}

/// What is in the hidden field of a passenger's form.
fn token(number: u64) -> String {
    format!("{:08x}", number.wrapping_mul(0x9e37_79b9))
}

fn passenger(request: &HttpRequest) -> Option<u64> {
    request.cookie(COOKIE)?.value().parse().ok()
}

fn page(title: &str, body: &str) -> HttpResponse {
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(format!(
        "<!doctype html><html lang=en><head><title>{title}</title><script>document.title = 'x'</script></head>\
         <body><nav><a class=home href=/book>Skerrow&nbsp;Ferries</a></nav><main>{body}</main></body></html>"
    ))
}

fn form(number: u64, wrong: Option<&str>) -> HttpResponse {
    let wrong = wrong.map_or_else(String::new, |why| format!("<p class=error>{why}</p>"));
    let piers: String = PIERS.map(|pier| format!("<option>{pier}</option>")).concat();
    let body = format!(
        "<h1>Book a crossing</h1>{wrong}<form id=search method=post action=book>\
         <input type=hidden name=token value={}><label>From <select name=from>{piers}</select></label>\
         <label>On <input type=date name=date></label><label><input type=checkbox name=bike> with a bicycle</label>\
         <button name=go value=search>Search</button></form>",
        token(number)
    );
    page("Book a crossing", &body)
}

/// Where everybody begins.
pub(super) async fn begin(kept: Kept) -> HttpResponse {
    let look = |site: &mut Site| {
        let number = site.passengers.next();
        let mut answer = form(number, None);
        let cookie =
            Cookie::build(COOKIE, number.to_string()).path("/book").http_only(true).finish();
        if let Ok(value) = cookie.to_string().parse() {
            answer.headers_mut().append(SET_COOKIE, value);
        }
        answer
    };
    kept.public_page(look).await
}

/// Looks for sailings, unless the booking service is stuck.
pub(super) async fn search(
    kept: Kept,
    request: HttpRequest,
    asked: web::Form<Search>,
) -> HttpResponse {
    let number = passenger(&request).unwrap_or(0);
    let look = |site: &mut Site| {
        if !site.passengers.knows(number) || asked.token != token(number) {
            return HttpResponse::Forbidden().body("This form is not yours");
        }
        if site.bookings.now().is_some() {
            return form(number, Some("We cannot take bookings at the moment"));
        }
        if asked.date.is_empty() || !PIERS.contains(&asked.from.as_str()) {
            return form(number, Some("Say from where and when"));
        }
        let pier = path_of(&asked.from);
        HttpResponse::SeeOther()
            .insert_header((LOCATION, format!("/book/sailings/{pier}?date={}", asked.date)))
            .finish()
    };
    kept.public_page(look).await
}

/// How a pier stands in a path.
fn path_of(pier: &str) -> String {
    pier.to_lowercase().replace(' ', "-")
}

/// The sailings from a pier.
pub(super) async fn sailings(
    kept: Kept,
    pier: web::Path<String>,
    request: HttpRequest,
) -> HttpResponse {
    let number = passenger(&request).unwrap_or(0);
    let look = |site: &mut Site| {
        if !site.passengers.knows(number) {
            return HttpResponse::SeeOther().insert_header((LOCATION, "/book")).finish();
        }
        let Some(pier) = PIERS.iter().find(|known| path_of(known) == *pier) else {
            return HttpResponse::NotFound().body("No such pier");
        };
        let rows: String = ["07:10", "11:40", "18:05"]
            .map(|time| format!("<tr><td class=time>{time}</td><td class=price>24.50</td></tr>"))
            .concat();
        let body = format!("<h1>From {pier}</h1><table id=sailings>{rows}</table>");
        page(&format!("Sailings from {pier}"), &body)
    };
    kept.public_page(look).await
}
