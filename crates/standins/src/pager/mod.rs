//! The pager: whoever knows the key of a rota pages it; what comes again under one name is one
//! page.

use crate::{
    StandinError,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::BTreeMap;

/// Pages that are kept.
const MOST: usize = 1_000;

/// A page.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Page {
    /// Whom it woke.
    pub rota: String,
    /// What it is about.
    pub about: String,
    /// What was said.
    pub text: String,
    /// `open` or `over`.
    pub state: &'static str,
    /// How often it came.
    pub times: u32,
}

/// What the pager keeps.
#[derive(Debug)]
pub struct Pager {
    /// The keys of the rotas.
    rotas: BTreeMap<String, String>,
    /// By rota and what it is about.
    pub pages: BTreeMap<(String, String), Page>,
}

/// A pager at work.
pub type RunningPager = Running<Pager>;

/// Starts a pager with one rota, `night`, that has this key.
pub fn start(port: u16, token: String, key: String) -> Result<RunningPager, StandinError> {
    let rotas = BTreeMap::from([(key, "night".to_owned())]);
    Office::new(Pager { rotas, pages: BTreeMap::new() }, token).open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/pages", web::post().to(page))
            .route("/pages", web::get().to(list));
    })
}

type Kept = web::Data<Office<Pager>>;

async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.served(&request, |_| Ok((200, json!({ "component": "pager", "version": "1.1.0" })))).await
}

#[derive(Deserialize)]
struct Ask {
    about: String,
    #[serde(default)]
    text: String,
    /// `page` or `over`.
    #[serde(default)]
    what: Option<String>,
}

/// Pages by the key alone, which stands in a header.
async fn page(kept: Kept, ask: web::Json<Ask>, request: HttpRequest) -> HttpResponse {
    let key = request
        .headers()
        .get("X-Rota-Key")
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default()
        .to_owned();
    let work = |pager: &mut Pager| -> Answer {
        let rota = pager
            .rotas
            .get(&key)
            .cloned()
            .ok_or_else(|| (403, "no rota has this key".to_owned()))?;
        let Ask { about, text, what } = ask.into_inner();
        let at = (rota.clone(), about.clone());
        if what.as_deref() == Some("over") {
            let found = pager
                .pages
                .get_mut(&at)
                .ok_or_else(|| (404, format!("nobody was paged about {about}")))?;
            found.state = "over";
            return Ok((200, json!(found)));
        }
        if pager.pages.len() >= MOST {
            pager.pages.pop_first();
        }
        let found = pager.pages.entry(at).or_insert(Page {
            rota,
            about,
            text: String::new(),
            state: "open",
            times: 0,
        });
        (found.text, found.state, found.times) = (text, "open", found.times + 1);
        Ok((202, json!(found)))
    };
    kept.served(&request, work).await
}

async fn list(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |pager| {
        Ok((200, json!({ "pages": pager.pages.values().collect::<Vec<_>>() })))
    })
    .await
}
