//! What is asked, and what the switch does.

use super::{
    super::Switch,
    requests::{BASE, answered},
    tree::Node,
};
use std::time::Duration;

fn ask(switch: &mut Switch, session: u32, xml: &str) -> Result<String, &'static str> {
    let rpc = Node::read(format!("<rpc xmlns='{BASE}'>{xml}</rpc>").as_bytes()).expect("XML");
    let said = answered(switch, &rpc.children[0], session).map_err(|(tag, _)| tag)?;
    let mut out = String::new();
    said.iter().for_each(|node| node.write(BASE, &mut out));
    Ok(out)
}

const PORTS: &str = "xmlns='urn:ietf:params:xml:ns:yang:ietf-interfaces'";

fn edit(enabled: &str) -> String {
    format!(
        "<edit-config><target><candidate/></target><config><interfaces {PORTS}><interface>\
         <name>ge-0/0/7</name><enabled>{enabled}</enabled></interface></interfaces></config>\
         </edit-config>"
    )
}

fn is_enabled(switch: &Switch) -> bool {
    switch.ports["ge-0/0/7"].enabled
}

#[test]
fn a_filter_selects_matches_and_leaves_out() {
    let mut switch = Switch::of_pier_3();
    let filtered = |switch: &mut Switch, operation: &str, filter: &str| {
        let xml = match operation {
            "get" => format!("<get><filter>{filter}</filter></get>"),
            _ => format!(
                "<get-config><source><running/></source><filter>{filter}</filter></get-config>"
            ),
        };
        ask(switch, 1, &xml).expect("is read")
    };
    let one = format!(
        "<interfaces {PORTS}><interface><name>ge-0/0/8</name><oper-status/></interface></interfaces>"
    );
    assert_eq!(
        filtered(&mut switch, "get", &one),
        "<data><interfaces xmlns=\"urn:ietf:params:xml:ns:yang:ietf-interfaces\"><interface>\
         <name>ge-0/0/8</name><oper-status>down</oper-status></interface></interfaces></data>"
    );
    let of_configuration = filtered(&mut switch, "get-config", &format!("<interfaces {PORTS}/>"));
    assert!(of_configuration.contains("uplink") && !of_configuration.contains("status"));
    let nothing = one.replace("ge-0/0/8", "ge-0/0/9");
    assert_eq!(filtered(&mut switch, "get", &nothing), "<data></data>");
    assert_eq!(filtered(&mut switch, "get", "<interfaces xmlns='urn:other'/>"), "<data></data>");
    let all = ask(&mut switch, 1, "<get/>").expect("is read");
    assert!(all.contains("brack-kiosks-3") && all.contains("in-octets"), "{all}");
}

#[test]
fn what_nobody_confirms_is_taken_back_and_locks_keep_others_out() {
    let mut switch = Switch::of_pier_3();
    switch.sessions = 3;
    let lock = "<lock><target><candidate/></target></lock>";
    assert_eq!(ask(&mut switch, 1, lock), Ok(String::new()));
    assert_eq!(ask(&mut switch, 2, lock), Err("lock-denied"));
    assert_eq!(ask(&mut switch, 2, &edit("false")), Err("in-use"));
    assert_eq!(ask(&mut switch, 1, &edit("perhaps")), Err("invalid-value"));
    assert_eq!(ask(&mut switch, 1, &edit("false").replace("/7", "/77")), Err("invalid-value"));
    assert_eq!(ask(&mut switch, 1, &edit("false")), Ok(String::new()));
    let commit = "<commit><confirmed/><confirm-timeout>60</confirm-timeout>\
                  <persist>a</persist></commit>";
    assert_eq!(ask(&mut switch, 2, commit), Err("in-use"));
    assert_eq!(ask(&mut switch, 1, commit), Ok(String::new()));
    assert!(!is_enabled(&switch));
    switch.session_ended(1);
    assert!(!is_enabled(&switch), "others may confirm it by its id");
    assert_eq!(ask(&mut switch, 2, "<commit/>"), Err("in-use"));
    let by_another = "<commit><persist-id>b</persist-id></commit>";
    assert_eq!(ask(&mut switch, 2, by_another), Err("invalid-value"));
    switch.pass(Duration::from_mins(1));
    assert!(is_enabled(&switch), "the time is over");
    let kept = "<commit><persist-id>a</persist-id></commit>";
    assert_eq!(ask(&mut switch, 2, kept), Err("invalid-value"));

    for (ends, is_kept) in
        [(kept, true), ("<cancel-commit><persist-id>a</persist-id></cancel-commit>", false)]
    {
        ask(&mut switch, 2, &edit("false")).expect("is edited");
        ask(&mut switch, 2, commit).expect("is committed");
        ask(&mut switch, 3, ends).expect("is taken");
        switch.pass(Duration::from_mins(1));
        assert_eq!(is_enabled(&switch), !is_kept);
        ask(&mut switch, 2, &edit("true")).expect("is edited");
        ask(&mut switch, 2, "<commit/>").expect("is committed");
    }
    // Without an id it is that of its session, and ends with it.
    ask(&mut switch, 2, &edit("false")).expect("is edited");
    ask(&mut switch, 2, "<commit><confirmed/></commit>").expect("is committed");
    switch.session_ended(2);
    assert!(is_enabled(&switch));
    assert_eq!(ask(&mut switch, 3, "<reboot/>"), Err("operation-not-supported"));
}
