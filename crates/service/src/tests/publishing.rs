//! Publishing, and asking about what is published.

use super::*;
use arvok_core::rule::Rule;
use serde_json::json;

const NOTE: &str = "runbook: note\ninputs: { on: { type: string } }\ntarget: '${inputs.on}'\n\
                    steps: [ { id: fine, require: 'true' } ]\n";

fn rule(name: &str, more: &str) -> String {
    format!(
        "rule: {name}\n{more}dispatch: {{ runbook: note, inputs: {{ on: '${{alert.resource}}' }} \
        }}\n"
    )
}

#[actix_web::test]
async fn all_of_a_publication_or_nothing_of_it() {
    let desk = Desk::new().await;
    let said = desk
        .publish(&format!(
            "{NOTE}---\n{}---\nrule: b\ndispatch: {{ runbook: nothing }}\n",
            rule("a", "")
        ))
        .await;
    assert_eq!(
        told(&said),
        "422 faulty-definitions: the definitions have 1 problems; nothing was published"
    );
    assert!(
        said.json["problems"][0]["message"].as_str().is_some_and(|m| m.contains("nothing")),
        "{}",
        said.json
    );
    assert_eq!(desk.node.published().catalog.rules().count(), 0);
    assert!(desk.publish(&format!("{NOTE}---\n{}", rule("a", ""))).await.status < 300);
    assert_eq!(desk.node.published().catalog.rules().count(), 1);
    // The same once more changes nothing, not even a version.
    let again = desk.publish(&format!("{NOTE}---\n{}", rule("a", ""))).await;
    assert!(again.status < 300, "{again:?}");
    assert_eq!(desk.node.published().catalog.get::<Rule>("a").map(|(_, v)| v), Some(1));
}

#[actix_web::test]
async fn what_others_stand_on_cannot_be_taken_away() {
    let desk = Desk::new().await;
    assert!(desk.publish(&format!("{NOTE}---\n{}", rule("a", ""))).await.status < 300);
    let without = NOTE.replace("{ on: { type: string } }", "{}").replace("${inputs.on}", "vm/a");
    let said = desk.publish(&without).await;
    assert_eq!(said.status, 422, "{said:?}");
    assert!(said.json.to_string().contains("rule `a` stands so"), "{}", said.json);
    let withdraw = json!({ "files": [], "withdraw": [{ "kind": "runbook", "name": "note" }] });
    let said =
        desk.ask(authored(TestRequest::post().uri("/api/v1/publish")).set_json(withdraw)).await;
    assert_eq!(said.status, 422, "{said:?}");
}

#[actix_web::test]
async fn of_many_rules_that_match_the_first_are_told_whole() {
    let desk = Desk::new().await;
    let rules: Vec<String> =
        (0..130).map(|i| rule(&format!("r{i:03}"), "stance: watch\n")).collect();
    assert!(
        desk.publish(&[&[NOTE.to_owned()], rules.as_slice()].concat().join("---\n")).await.status
            < 300
    );
    assert!(
        desk.publish(
            "source: pier\nintake: { webhook: { credential: { bearer: \"${secret('x')}\" } } }\n"
        )
        .await
        .status
            < 300
    );
    let alert = json!({ "kind": "disk.usage", "resource": "vm/a", "severity": "major" });
    let post = TestRequest::post().uri("/in/pier?trial=no").set_json(alert);
    let seq = desk.ask(authored(post)).await.json["alerts"][0]["seq"].clone();
    let why = desk
        .ask(shown(TestRequest::get().uri(&format!("/api/v1/alerts/{seq}/why")), "viewer"))
        .await
        .json;
    let told = why["matching"].as_array().expect("rules");
    assert_eq!(told.len(), 130);
    let with_verdict = told.iter().filter(|w| w["verdict"]["given"] == true).count();
    assert_eq!(with_verdict, 100, "of the others only that they match");
}

#[actix_web::test]
async fn nobodys_questions_hold_up_a_publication() {
    let desk = Desk::new().await;
    let (go_on, wait) = std::sync::mpsc::channel::<()>();
    let wait = std::sync::Arc::new(std::sync::Mutex::new(wait));
    let asks = ["a", "b", "c", "c"].map(|name| {
        let (node, wait) = (desk.node.clone(), wait.clone());
        actix_web::rt::spawn(async move {
            let who = arvok_api::Who {
                name: name.into(),
                role: arvok_core::Role::Viewer,
                automate: Default::default(),
            };
            node.capacity
                .evaluate(&who, move || wait.lock().expect("nobody panicked").recv().is_ok())
                .await
                .is_ok()
        })
    });
    assert!(desk.publish(NOTE).await.status < 300);
    // Whoever has to put things right is answered as well.
    let admin = arvok_api::Who {
        name: "root".into(),
        role: arvok_core::Role::Admin,
        automate: Default::default(),
    };
    assert_eq!(desk.node.capacity.evaluate(&admin, || 7).await.ok(), Some(7));
    (0..4).for_each(|_| go_on.send(()).expect("somebody waits"));
    for ask in asks {
        assert!(ask.await.expect("ends"));
    }
}
