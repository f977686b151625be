//! Any bytes as a web page, and as a message that may be an answer.
#![no_main]

use arvok_core::{
    connector::visit::{Page, PageReader},
    job::MailAnswer,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let choices = [("restart".to_owned(), "Restart it now".to_owned())];
    if let Some(answer) = MailAnswer::read(bytes, None) {
        let _ = (answer.chosen(&choices), answer.is_from(&["*@skerrow.example".to_owned()]));
    }
    let text = String::from_utf8_lossy(bytes);
    let _ = Page::of_text(&text);
    let (mut reader, mut rest) = (PageReader::default(), text.as_ref());
    while !rest.is_empty() && reader.nodes() <= 10_000 {
        let (piece, more) = rest.split_at(rest.ceil_char_boundary(16.min(rest.len())));
        reader.read(piece);
        rest = more;
    }
    drop(reader.finish());
});
