//! What watches tell, and what the things that they watch do: kiosks, features, the queue, the
//! cloud, the site; and the buttons of the chat.

use super::*;
use crate::{
    Faults, Harbour, Pace, Server, chat, cloud, features, kiosks, office::Running, queue, site,
};
use actix_web::{HttpResponse, web};
use std::{
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

const SOON: Duration = Duration::from_millis(60);

/// Somebody who is told things, and refuses the first of them.
struct Ear {
    server: Server,
    heard: Arc<Mutex<Vec<Value>>>,
}

impl Ear {
    fn open() -> Self {
        let heard: Arc<Mutex<Vec<Value>>> = Arc::default();
        let kept = Arc::clone(&heard);
        let server = Server::start(0, move |config| {
            let kept = Arc::clone(&kept);
            let take = move |body: web::Json<Value>| {
                let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
                kept.push(body.into_inner());
                let answer = if kept.len() == 1 {
                    HttpResponse::ServiceUnavailable()
                } else {
                    HttpResponse::Accepted()
                }
                .finish();
                async move { answer }
            };
            config.route("/in", web::post().to(take));
        });
        Self { server: server.expect("starts"), heard }
    }

    fn report_to(&self) -> Option<(String, String)> {
        Some((format!("{}/in", self.server.url()), "watch".into()))
    }

    fn heard(&self) -> Vec<Value> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What was told by now: check, what it is about, state.
    async fn until(&self, many: usize) -> Vec<String> {
        let told = async {
            while self.heard().len() < many {
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
        };
        tokio::time::timeout(Duration::from_secs(20), told).await.expect("it is told");
        let word = |m: &Value, key: &str| m[key].as_str().unwrap_or_default().to_owned();
        self.heard()
            .iter()
            .map(|m| ["check", "about", "state"].map(|key| word(m, key)).join(" "))
            .collect()
    }
}

#[tokio::test]
async fn what_goes_wrong_is_told_until_it_is_taken_and_then_that_it_is_well() {
    let ear = Ear::open();
    let register = kiosks::start(0, "k".into(), SOON).expect("starts").watched(ear.report_to());
    register.with(|all| all.break_page("brack-kiosk-1"));
    let told = ear.until(2).await;
    assert_eq!(
        told, ["kiosk.page kiosk/brack-kiosk-1 wrong"; 2],
        "it was not taken the first time"
    );
    assert_eq!(ear.heard()[0]["labels"]["terminal"], "brack");
    let caller = Caller::of(register.url(), "k");
    let page =
        caller.request(Method::GET, "/kiosks/brack-kiosk-1/page").send().await.expect("answers");
    assert!(page.text().await.expect("a page").contains("<h1>Error 500</h1>"));
    assert_eq!(caller.post("/kiosks/brack-kiosk-1/restart", json!({})).await.0, 202);
    assert_eq!(ear.until(3).await[2], "kiosk.page kiosk/brack-kiosk-1 well");
    register.with(|all| all.kiosks.get_mut("quill-kiosk-2").map(|kiosk| kiosk.paper = false));
    assert_eq!(ear.until(4).await[3], "kiosk.paper kiosk/quill-kiosk-2 wrong");
    let ids: std::collections::BTreeSet<String> =
        ear.heard().iter().map(|m| m["id"].as_str().unwrap_or_default().to_owned()).collect();
    assert_eq!(ids.len(), 4, "each message has an id of its own");
    register.set_faults(Faults { silent: true, ..Faults::default() });
    // One that nobody knew is registered with its terminal.
    let put = |name: &str, body: Value| {
        caller.request(Method::PUT, &format!("/kiosks/{name}")).json(&body)
    };
    assert_eq!(caller.ask(put("oldhithe-kiosk-9", json!({ "by": "arvok" }))).await.0, 404);
    let new =
        caller.ask(put("oldhithe-kiosk-9", json!({ "by": "arvok", "terminal": "oldhithe" }))).await;
    assert_eq!(new, (200, json!({ "name": "oldhithe-kiosk-9", "registered_by": "arvok" })));
    register.stop().await;
}

async fn tells<S: crate::Watched + Send + 'static>(
    ear: &Ear,
    at_work: Running<S>,
    wrong: impl FnOnce(&mut S),
) -> String {
    let before = ear.heard().len();
    let at_work = at_work.watched(ear.report_to());
    at_work.with(wrong);
    let told = ear.until(before + 2).await.pop().unwrap_or_default();
    at_work.stop().await;
    told
}

#[tokio::test]
async fn features_queues_instances_and_pages_are_watched_alike() {
    for (name, expected) in [
        ("features", "feature.failing feature/seat-maps wrong"),
        ("queue", "queue.waiting queue/ticket-mails wrong"),
        ("cloud", "instance.leaving instance/timetable-worker-7 wrong"),
        ("site", "site.check partner/payments wrong"),
    ] {
        // The first message is refused, and comes again.
        let ear = Ear::open();
        let told = match name {
            "features" => {
                let switches = features::start(0, "f".into()).expect("starts");
                tells(&ear, switches, |all| {
                    all.values_mut().for_each(|feature| feature.failing_percent = 7)
                })
                .await
            }
            "queue" => {
                tells(&ear, queue::start(0, "q".into(), SOON).expect("starts"), |queue| {
                    queue.pile_up(100.0)
                })
                .await
            }
            "cloud" => {
                let cloud = cloud::start(0, "c".into(), SOON).expect("starts");
                let notice = Duration::from_secs(60);
                tells(&ear, cloud, |cloud| assert!(cloud.reclaim("timetable-worker-7", notice)))
                    .await
            }
            _ => {
                tells(
                    &ear,
                    site::start(0, "s".into(), SOON).expect("starts"),
                    site::Site::silence_payments,
                )
                .await
            }
        };
        assert_eq!(told, expected);
    }
}

#[tokio::test]
async fn an_instance_that_is_taken_away_is_gone_in_time_and_loses_nothing_that_was_saved() {
    let cloud = cloud::start(0, "c".into(), SOON).expect("starts");
    let caller = Caller::of(cloud.url(), "c");
    let reclaim = |seconds: u64| json!({ "seconds": seconds });
    assert_eq!(caller.post("/instances/timetable-worker-7/reclaim", reclaim(90)).await.0, 202);
    assert!(
        caller.get("/instances/timetable-worker-7").await.1["leaves_in_seconds"]
            .as_u64()
            .is_some_and(|s| s <= 90)
    );
    assert_eq!(
        caller.post("/instances/timetable-worker-7/drain", json!({})).await.1["serving"],
        false
    );
    assert_eq!(caller.post("/instances/timetable-worker-7/reclaim", reclaim(0)).await.0, 202);
    let gone = async { while caller.get("/instances/timetable-worker-7").await.0 != 404 {} };
    tokio::time::timeout(Duration::from_secs(20), gone).await.expect("it is gone");
    assert_eq!(caller.post("/instances/timetable-worker-7/reclaim", reclaim(1)).await.0, 409);
    cloud.with(|cloud| cloud.bring_back("timetable-worker-7"));
    assert_eq!(caller.get("/instances/timetable-worker-7").await.1["serving"], true);
}

#[tokio::test]
async fn the_site_is_seen_to_part_by_part() {
    let site = site::start(0, "s".into(), SOON).expect("starts");
    let caller = Caller::of(site.url(), "s");
    site.with(|site| {
        site.spoil_page("sailings", "Nothing");
        site.jam_bookings();
        site.silence_payments();
    });
    let shown = |page: &str| {
        let asked = caller.request(Method::GET, &format!("/pages/{page}"));
        async move { asked.send().await.expect("answers").text().await.expect("a page") }
    };
    assert!(
        shown("sailings").await.contains("<h1>Nothing</h1>")
            && shown("prices").await.contains("prices</h1>")
    );
    assert_eq!(caller.get("/bookings").await.1["state"], "stuck");
    assert_eq!(caller.get("/payments").await.1["state"], "silent");
    assert_eq!(caller.post("/pages/sailings/refresh", json!({})).await.0, 202);
    assert_eq!(
        caller.post("/pages/none/refresh", json!({})).await,
        (404, error("there is no page none"))
    );
    assert_eq!(caller.post("/bookings/restart", json!({})).await.0, 202);
    for _ in 0..2 {
        let told = caller.post_once("k", "/payments/cases", &json!({ "text": "silent" })).await;
        assert_eq!(told, (201, json!({ "case": 1 })));
    }
    let well = async {
        while caller.get("/bookings").await.1["state"] != "well"
            || caller.get("/payments").await.1["state"] != "well"
            || shown("sailings").await.contains("Nothing")
        {}
    };
    tokio::time::timeout(Duration::from_secs(20), well).await.expect("all is well");
}

#[tokio::test]
async fn the_first_button_that_is_pressed_is_told_to_whoever_asked() {
    let ear = Ear::open();
    let chat = chat::start(0, "crew".into()).expect("starts");
    let caller = Caller::of(chat.url(), "crew");
    let call_back = ear.report_to().map(|(url, _)| url);
    let ask = json!({ "text": "Turn it \
        on?", "buttons": { "yes": "Yes", "no": "No" }, "call_back": call_back });
    let (status, asked) = caller.post("/channels/booking/messages", ask).await;
    assert_eq!(
        (status, &asked["buttons"]["yes"], &asked["call_back"]),
        (201, &json!("Yes"), &Value::Null)
    );
    let press = |choice: &str, by: &str| {
        caller.post("/channels/booking/messages/1/press", json!({ "choice": choice, "by": by }))
    };
    assert_eq!(
        press("maybe", "Pat").await,
        (422, error("there is no button maybe; there are no, yes"))
    );
    assert_eq!(press("yes", "Maren").await.0, 200);
    assert_eq!(press("no", "Pat").await, (409, error("Maren was quicker: yes")));
    ear.until(1).await;
    assert_eq!(ear.heard()[0], json!({ "choice": "yes", "by": "Maren" }));
    let many: serde_json::Map<String, Value> =
        (0..6).map(|n| (format!("b{n}"), json!("x"))).collect();
    let too_many =
        caller.post("/channels/booking/messages", json!({ "text": "?", "buttons": many })).await;
    assert_eq!(too_many, (422, error("a message has 5 buttons at most")));
    chat.stop().await;
}

#[tokio::test]
async fn the_whole_harbour_starts_and_stops() {
    let pace = Pace { tick: SOON, seconds_a_tick: 1.0, takes: SOON };
    let key = "whsec_c2tlcnJvdyBmZXJyaWVzIGhhcmJvdXIgYm9hcmQ=";
    let harbour = Harbour::start("http://127.0.0.1:9", pace, |what| format!("{what}-token"), key)
        .expect("starts");
    assert!(
        harbour
            .secrets()
            .iter()
            .any(|(name, value, _)| *name == "ticket-desk" && value == "client-token")
    );
    let addresses: std::collections::BTreeSet<String> =
        harbour.settings().map(|(_, url)| url).into();
    assert_eq!(addresses.len(), 13);
    harbour.set_faults(&Faults { busy: 1, ..Faults::default() });
    assert_eq!(Caller::of(harbour.site.url(), "site-token").get("/about").await.0, 503);
    assert_eq!(Caller::of(harbour.site.url(), "site-token").get("/about").await.0, 200);
    harbour.stop().await;
    assert!(Harbour::start("http://127.0.0.1:9", pace, |what| what.to_owned(), "no key").is_err());
}
