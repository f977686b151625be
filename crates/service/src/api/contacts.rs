//! Contacts: who would be reached now, and how.

use super::{ApiError, caller::Caller};
use crate::{clock, node::Node};
use actix_web::{get, web};
use arvok_api::{ContactItem, ContactWayItem, Page, Problem};
use arvok_core::{
    Catalog,
    contact::{Contact, ContactWay, Person, Who},
    text::cut,
};
use arvok_store::access;
use chrono::{DateTime, Utc};
use std::collections::BTreeSet;

/// Contacts, by name.
#[utoipa::path(operation_id = "listContacts", tag = "contacts",
    responses((status = 200, body = Page<ContactItem>)))]
#[get("/contacts")]
pub(super) async fn list(
    node: web::Data<Node>,
    caller: Caller,
) -> Result<web::Json<Page<ContactItem>>, ApiError> {
    let (published, now) = (node.published(), clock::now());
    let tokens = tokens(&node).await?;
    // To find out what is on in a calendar takes its time.
    let all = move || {
        let all = published.catalog.all::<Contact>();
        all.map(|(contact, _)| item(contact, (&published.catalog, &tokens), now)).collect()
    };
    let items = node.capacity.evaluate(&caller.0, all).await?;
    Ok(web::Json(Page { items, next: None, bounded: false }))
}

/// One contact.
#[utoipa::path(operation_id = "showContact", tag = "contacts", params(("name" = String, Path)),
    responses((status = 200, body = ContactItem), (status = 404, body = Problem)))]
#[get("/contacts/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<ContactItem>, ApiError> {
    let published = node.published();
    let missing = || ApiError::NotFound(format!("contact `{}`", cut(&name, 64)));
    let (contact, _) = published.catalog.shared::<Contact>(&name).ok_or_else(missing)?;
    let (now, tokens) = (clock::now(), tokens(&node).await?);
    let show = move || item(&contact, (&published.catalog, &tokens), now);
    Ok(web::Json(node.capacity.evaluate(&caller.0, show).await?))
}

/// The names of all tokens.
async fn tokens(node: &Node) -> Result<BTreeSet<String>, ApiError> {
    let all = access::tokens(&node.pools.questions).await?;
    Ok(all.into_iter().map(|token| token.name).collect())
}

fn item(
    contact: &Contact,
    (catalog, tokens): (&Catalog, &BTreeSet<String>),
    now: DateTime<Utc>,
) -> ContactItem {
    let on_duty = contact.on_duty(catalog, now);
    let planned = contact.ways(catalog, &on_duty);
    let ways = planned.iter().filter_map(|planned| {
        let (person, way) = planned.find(catalog)?;
        Some(way_item(&planned.contact, (person, way), planned.now(catalog, now).is_some()))
    });
    let ways = ways.collect();
    let (members, duty) = match &contact.who {
        Who::Person(_) => (Vec::new(), None),
        Who::Team(team) => (team.members.clone(), team.duty.as_ref()),
    };
    let asked = duty.and_then(|duty| duty.asked()).map(|asked| &asked.lookup);
    let persons = contact.persons(catalog).into_iter();
    let without_token = persons
        .filter(|(_, person)| !tokens.contains(&person.token))
        .map(|(name, _)| name.to_owned())
        .collect();
    ContactItem {
        name: contact.name.clone(),
        summary: contact.summary.clone(),
        members,
        on_duty,
        duty_by: asked.map(ToString::to_string),
        without_token,
        rounds: contact.rounds,
        ways,
    }
}

fn way_item(contact: &str, (person, way): (&Person, &ContactWay), now: bool) -> ContactWayItem {
    let hours: Vec<String> =
        person.hours.iter().chain(&way.hours).map(ToString::to_string).collect();
    ContactWayItem {
        contact: contact.to_owned(),
        call: way.operation.clone(),
        via: way.via.clone(),
        wait: way.wait.to_string(),
        hours: (!hours.is_empty()).then(|| hours.join(" and ")),
        now,
    }
}
