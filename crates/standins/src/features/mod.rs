//! Switches of features, each on for a share of the passengers. A share moves by a step at a time
//! at most.

use crate::{
    Sight, StandinError, Watched,
    office::{Answer, Office, Running},
};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::BTreeMap;

/// A switch.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Feature {
    /// For how many of a hundred it is on.
    pub share: u8,
    /// Of a hundred requests with it, how many fail.
    pub failing_percent: u8,
    /// Who changed it last.
    pub by: String,
}

impl Feature {
    /// Of a hundred requests that meet it, how many fail by now.
    pub fn failing(&self) -> u8 {
        if self.share == 0 { 0 } else { self.failing_percent }
    }
}

/// Percent of failing requests at which the watch tells of it.
const RAISE: u8 = 5;

/// What is kept: the switches by name.
pub type Features = BTreeMap<String, Feature>;

impl Watched for Features {
    fn sights(&mut self) -> Vec<Sight> {
        let sight = |(name, feature): (&String, &Feature)| Sight {
            check: "feature.failing",
            about: format!("feature/{name}"),
            wrong: feature.failing() >= RAISE,
            text: format!(
                "{} % of the requests with {name} fail; it is on for {} %",
                feature.failing(),
                feature.share
            ),
            more: json!({ "value": feature.failing() }),
        };
        self.iter().map(sight).collect()
    }
}

/// Switches at work.
pub type RunningFeatures = Running<Features>;

/// Starts the switches of the Skerrow Ferries.
pub fn start(port: u16, token: String) -> Result<RunningFeatures, StandinError> {
    let feature = |share, failing_percent| Feature { share, failing_percent, by: "crew".into() };
    let all = [("seat-maps", feature(100, 0)), ("new-fares", feature(0, 0))];
    Office::new(all.map(|(name, f)| (name.to_owned(), f)).into(), token).open(port, |config| {
        config
            .route("/about", web::get().to(about))
            .route("/features/{name}", web::get().to(show))
            .route("/features/{name}", web::put().to(change));
    })
}

type Kept = web::Data<Office<Features>>;

async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |_| {
        Ok((200, json!({ "component": "feature switches", "version": "2.2.0" })))
    })
    .await
}

fn feature_named<'f>(
    features: &'f mut Features,
    name: &str,
) -> Result<&'f mut Feature, (u16, String)> {
    features.get_mut(name).ok_or_else(|| (404, format!("there is no feature {name}")))
}

async fn show(kept: Kept, name: web::Path<String>, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |features| {
        feature_named(features, &name).map(|f| {
            (
                200,
                json!({ "name": *name, "share": f.share, "failing_percent": f.failing(),
                "by": f.by }),
            )
        })
    })
    .await
}

#[derive(Deserialize)]
struct Change {
    share: u8,
    by: String,
    /// The share as it was seen: another one means that somebody was quicker.
    from: Option<u8>,
}

async fn change(
    kept: Kept,
    name: web::Path<String>,
    ask: web::Json<Change>,
    request: HttpRequest,
) -> HttpResponse {
    let Change { share, by, from } = ask.into_inner();
    let work = |features: &mut Features| -> Answer {
        let feature = feature_named(features, &name)?;
        if share > 100 {
            return Err((422, "a share is from 0 to 100".into()));
        }
        if from.is_some_and(|from| from != feature.share) {
            return Err((409, format!("the share is {} by now", feature.share)));
        }
        (feature.share, feature.by) = (share, by);
        Ok((200, json!({ "name": *name, "share": feature.share })))
    };
    kept.serve(&request, work).await
}
