//! Signing in, tokens, secrets.

use super::{
    ApiError, automation,
    caller::{COOKIE, Caller},
    refusals,
};
use crate::{clock, node::Node, random::secret_text, secrets};
use actix_web::{
    HttpRequest, HttpResponse,
    cookie::{Cookie, SameSite, time::Duration},
    delete, get, post, put, web,
};
use arvok_api::{
    AutomationRight, Change, NewToken, Problem, SecretItem, SecretValue, SignIn, TokenItem,
    TokenMade, Who,
};
use arvok_connect::weakness;
use arvok_core::{Role, document::check_name, text::cut};
use arvok_store::{
    access::{self, Revoked},
    audit as record, secrets as store,
};

/// Who is asking, and what the token allows.
#[utoipa::path(
    operation_id = "whoAmI", tag = "access",
    responses((status = 200, body = Who), (status = 401, body = Problem))
)]
#[get("/me")]
pub(super) async fn me(caller: Caller) -> web::Json<Who> {
    web::Json(caller.0)
}

fn cookie(value: String, age: Duration) -> Cookie<'static> {
    Cookie::build(COOKIE, value)
        .path("/")
        .secure(true)
        .http_only(true)
        .same_site(SameSite::Strict)
        .max_age(age)
        .finish()
}

/// Signs in to the console with a token; the answer sets a cookie.
#[utoipa::path(
    operation_id = "signIn", tag = "access", request_body = SignIn,
    responses((status = 200, body = Who), (status = 401, body = Problem))
)]
#[post("/session")]
pub(super) async fn sign_in(
    node: web::Data<Node>,
    request: HttpRequest,
    body: web::Json<SignIn>,
) -> Result<HttpResponse, ApiError> {
    let known = access::by_token(&node.pools.questions, body.token.trim()).await?;
    let (id, who) = known.ok_or_else(|| {
        refusals::refused(&node, &request, "sign-in.refused", "an unknown token");
        ApiError::BadToken
    })?;
    let session = secret_text("");
    access::start_session(&node.pools.questions, id, &session, clock::now()).await?;
    let age = Duration::seconds(access::SESSION.num_seconds());
    Ok(HttpResponse::Ok().cookie(cookie(session, age)).json(who))
}

/// Ends the console's session.
#[utoipa::path(operation_id = "signOut", tag = "access", responses((status = 204)))]
#[delete("/session")]
pub(super) async fn sign_out(
    node: web::Data<Node>,
    _caller: Caller,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    if let Some(session) = request.cookie(COOKIE) {
        access::end_session(&node.pools.questions, session.value()).await?;
    }
    Ok(HttpResponse::NoContent().cookie(cookie(String::new(), Duration::ZERO)).finish())
}

/// All tokens, without themselves.
#[utoipa::path(
    operation_id = "listTokens", tag = "access",
    responses((status = 200, body = [TokenItem]), (status = 403, body = Problem))
)]
#[get("/tokens")]
pub(super) async fn tokens(
    node: web::Data<Node>,
    caller: Caller,
) -> Result<web::Json<Vec<TokenItem>>, ApiError> {
    caller.must(Role::Admin)?;
    Ok(web::Json(access::tokens(&node.pools.questions).await?))
}

/// Makes a token; it is shown this once.
#[utoipa::path(
    operation_id = "makeToken", tag = "access", request_body = NewToken,
    responses((status = 201, body = TokenMade), (status = 409, body = Problem))
)]
#[post("/tokens")]
pub(super) async fn make_token(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<NewToken>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    check_name(&body.name).map_err(|e| ApiError::BadRequest(e.to_string()))?;
    let token = secret_text("arvok_");
    let by = &caller.principal();
    let NewToken { name, role, automate } = body.into_inner();
    may_automate(role, &automate)?;
    let made = (name.as_str(), role);
    access::make_token(&node.pools.questions, made, &automate, &token, by, clock::now()).await?;
    Ok(HttpResponse::Created().json(TokenMade { name, role, token }))
}

/// That a right to automate is one, and of use to whoever has it.
fn may_automate(role: Role, automate: &AutomationRight) -> Result<(), ApiError> {
    let right =
        automation::read(automate).map_err(|e| ApiError::BadRequest(format!("automate: {e}")))?;
    match (right, role) {
        (Some(_), Role::Viewer | Role::Responder) => Err(ApiError::BadRequest(format!(
            "automate: a {role} publishes nothing, so this right is of no use; give the role author"
        ))),
        (Some(_), Role::Admin) => Err(ApiError::BadRequest(
            "automate: an admin may let anything act; leave it out".to_owned(),
        )),
        _ => Ok(()),
    }
}

/// Sets what whoever has a token may let act by itself when publishing, in place of what it might
/// before. Without any line it is taken away.
#[utoipa::path(
    operation_id = "setAutomation", tag = "access", params(("name" = String, Path)),
    request_body = AutomationRight,
    responses((status = 204), (status = 400, body = Problem), (status = 404, body = Problem))
)]
#[put("/tokens/{name}/automate")]
pub(super) async fn set_automation(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<AutomationRight>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    let listed = access::tokens(&node.pools.questions).await?;
    let missing = || ApiError::NotFound(format!("token `{}`", cut(&name, 64)));
    let token = listed.iter().find(|token| token.name == *name).ok_or_else(missing)?;
    may_automate(token.role, &body)?;
    let by = caller.principal();
    match access::change_automation(&node.pools.questions, &name, &body, &by).await? {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(missing()),
    }
}

/// Revokes a token and ends its sessions.
#[utoipa::path(
    operation_id = "revokeToken", tag = "access",
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem))
)]
#[delete("/tokens/{name}")]
pub(super) async fn revoke_token(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    match access::remove_token(&node.pools.questions, &name, &caller.principal()).await? {
        Revoked::Yes => Ok(HttpResponse::NoContent().finish()),
        Revoked::Unknown => Err(ApiError::NotFound(format!("token `{name}`"))),
        Revoked::LastAdmin => Err(ApiError::Conflict(format!(
            "`{name}` is the last token of role admin; without one nobody could make another: make \
            that first"
        ))),
    }
}

/// All secrets, by name only.
#[utoipa::path(
    operation_id = "listSecrets", tag = "access",
    responses((status = 200, body = [SecretItem]), (status = 403, body = Problem))
)]
#[get("/secrets")]
pub(super) async fn list_secrets(
    node: web::Data<Node>,
    caller: Caller,
) -> Result<web::Json<Vec<SecretItem>>, ApiError> {
    caller.must(Role::Author)?;
    let published = node.published();
    let mut listed = store::list(&node.pools.questions).await?;
    for item in &mut listed {
        let opened = published.secrets.get(&item.name);
        item.opens = opened.is_some();
        item.weak =
            opened.and_then(|secret| weakness(&secret.value)).map(|weak| weak.as_str().to_owned());
    }
    Ok(web::Json(listed))
}

/// Sets or replaces a secret; it never comes out again.
#[utoipa::path(
    operation_id = "setSecret", tag = "access", request_body = SecretValue,
    responses((status = 204), (status = 400, body = Problem))
)]
#[put("/secrets/{name}")]
pub(super) async fn set_secret(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<SecretValue>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    if let Some(fault) = &node.calls.key_fault {
        return Err(ApiError::NotReady(fault.clone()));
    }
    let SecretValue { value, allowed } = body.into_inner();
    secrets::set(
        &node.pools.questions,
        &node.calls.vault,
        (&name, &value),
        allowed,
        &caller.principal(),
    )
    .await?;
    node.reload().await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a secret.
#[utoipa::path(
    operation_id = "removeSecret", tag = "access",
    responses((status = 204), (status = 404, body = Problem))
)]
#[delete("/secrets/{name}")]
pub(super) async fn remove_secret(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    if store::remove(&node.pools.questions, &name).await? {
        record::record(&node.pools.questions, &caller.principal(), "secret.removed", &name, "")
            .await?;
        node.announcer.tell(Change { definitions: true, ..Change::default() });
        node.reload().await?;
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("secret `{name}`")))
}
