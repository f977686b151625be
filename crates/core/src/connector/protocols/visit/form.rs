//! What a form sends when it is submitted by its first button (HTML, section 4.10.21).

use super::page::{Page, PageTarget, TargetBase, text_of};
use crate::text::percent;
use scraper::ElementRef;

/// Where the first form that a selector finds leads, with its fields as they stand and what is
/// filled in.
pub(super) fn submitted(
    page: &Page,
    selector: &str,
    fill: &[(String, String)],
) -> Result<PageTarget, String> {
    let form = page.element(selector).ok_or("there is no such form on the page before it")?;
    if form.value().name() != "form" {
        return Err("what is found on the page before it is no form".to_owned());
    }
    let mut controls = controls(page, form);
    for (name, value) in fill {
        let has = |control: &Control| control.name == *name && !control.is_button;
        if !controls.iter().any(has) {
            let mut names: Vec<&str> =
                controls.iter().filter(|c| !c.is_button).map(|c| c.name.as_str()).collect();
            names.dedup();
            let has = match names.as_slice() {
                [] => "it has none".to_owned(),
                names => format!("it has {}", names.join(", ")),
            };
            return Err(format!("the form has no field `{name}`; {has}"));
        }
        let mut is_first = true;
        controls.retain_mut(|control| {
            if !has(control) {
                return true;
            }
            control.value = Some(value.clone());
            std::mem::take(&mut is_first)
        });
    }
    let mut has_button = false;
    let fields = controls.into_iter().filter_map(|control| {
        let counts = !control.is_button || !std::mem::replace(&mut has_button, true);
        let value = control.value.filter(|_| counts && !control.name.is_empty())?;
        Some(format!("{}={}", percent(&control.name), percent(&value)))
    });
    let fields = fields.collect::<Vec<_>>().join("&");
    let method = form.attr("method").unwrap_or("get").trim().to_ascii_lowercase();
    let is_post = method == "post";
    if method == "dialog" {
        return Err("the form is that of a dialog, which sends nothing".to_owned());
    }
    let encoding = form.attr("enctype").unwrap_or_default().trim().to_ascii_lowercase();
    if is_post && !matches!(encoding.as_str(), "" | "application/x-www-form-urlencoded") {
        return Err(format!("the form is sent as {encoding}, which a visit does not"));
    }
    let address = form.attr("action").unwrap_or_default().trim().to_owned();
    // A form without an address is sent to its own page, whatever others are relative to.
    let base = if address.is_empty() { TargetBase::Page } else { page.base() };
    Ok(PageTarget { address, base, fields: Some(fields), is_post })
}

/// Something of a form that sends a value, or may.
struct Control {
    name: String,
    /// None where it sends nothing unless it is filled in: a box that is not ticked.
    value: Option<String>,
    is_button: bool,
}

/// The controls of a form, in the order of the page, also those elsewhere that name it.
fn controls(page: &Page, form: ElementRef<'_>) -> Vec<Control> {
    let id = form.attr("id");
    let is_of = |control: &ElementRef<'_>| match control.attr("form") {
        Some(named) => Some(named) == id,
        None => control.ancestors().any(|node| node.id() == form.id()),
    };
    page.elements("input, select, textarea, button")
        .into_iter()
        .filter(|control| control.attr("disabled").is_none() && is_of(control))
        .filter_map(control)
        .collect()
}

fn control(element: ElementRef<'_>) -> Option<Control> {
    let name = element.attr("name").unwrap_or_default().to_owned();
    let kind = element.attr("type").unwrap_or_default().to_ascii_lowercase();
    let value = element.attr("value").map(str::to_owned);
    let (value, is_button) = match (element.value().name(), kind.as_str()) {
        (_, "file" | "reset") | ("input", "button") | ("button", "button") => return None,
        ("input", "submit" | "image") | ("button", _) => (Some(value.unwrap_or_default()), true),
        ("input", "checkbox" | "radio") => {
            let on = value.unwrap_or_else(|| "on".to_owned());
            (element.attr("checked").map(|_| on), false)
        }
        ("select", _) => (chosen(element), false),
        ("textarea", _) => (Some(element.text().collect()), false),
        _ => (Some(value.unwrap_or_default()), false),
    };
    Some(Control { name, value, is_button })
}

/// The value of a list: that of the option that is selected, else of the first.
fn chosen(list: ElementRef<'_>) -> Option<String> {
    let options = || {
        list.descendent_elements()
            .filter(|e| e.value().name() == "option" && e.attr("disabled").is_none())
    };
    let option = options().find(|o| o.attr("selected").is_some());
    let option = option.or_else(|| options().next().filter(|_| list.attr("multiple").is_none()))?;
    Some(option.attr("value").map_or_else(|| text_of(option), str::to_owned))
}
