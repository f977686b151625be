//! Names of MIB files.

use super::*;

const PUMPS: &str = r#"
SKERROW-PUMP-MIB DEFINITIONS ::= BEGIN
IMPORTS
    MODULE-IDENTITY, OBJECT-TYPE, NOTIFICATION-TYPE, enterprises FROM SNMPv2-SMI
    TEXTUAL-CONVENTION FROM SNMPv2-TC
    ifIndex FROM IF-MIB;

skerrow MODULE-IDENTITY
    LAST-UPDATED "202611270000Z"
    DESCRIPTION "::= { nothing } -- \of it counts"
    ::= { enterprises 99999 }
-- A comment ::= { x 1 } -- pumps OBJECT IDENTIFIER ::= { skerrow 1 }
State ::= TEXTUAL-CONVENTION
    STATUS current
    DESCRIPTION "How a pump is."
    SYNTAX INTEGER { running(1), stopped(2), blocked(3) }
pumpTable OBJECT-TYPE
    SYNTAX SEQUENCE OF PumpEntry
    MAX-ACCESS not-accessible
    ::= { pumps 1 }
PumpEntry ::= SEQUENCE { pumpState State, pumpMode INTEGER }
pumpState OBJECT-TYPE
    SYNTAX State
    ::= { pumpTable 2 }
pumpMode OBJECT-TYPE
    SYNTAX INTEGER { manual(1), automatic(2) }
    ::= { pumpTable 3 }
pumpLevel OBJECT-TYPE
    SYNTAX Integer32 (0..100)
    ::= { iso org(3) dod(6) 1 4 1 99999 1 1 4 }
pumpBlocked NOTIFICATION-TYPE
    OBJECTS { pumpState, pumpMode, ifIndex }
    STATUS current
    ::= { skerrow 0 7 }
END
"#;

const OLD: &str = "OLD-MIB DEFINITIONS ::= BEGIN\nIMPORTS skerrow FROM SKERROW-PUMP-MIB;\n\
    valve TRAP-TYPE ENTERPRISE skerrow VARIABLES { pumpLevel } DESCRIPTION \"\" ::= 4\n\
    linkUp TRAP-TYPE ENTERPRISE snmp ::= 3\nEND\n";

fn shown(found: &NamedObjects) -> Vec<String> {
    let object = |(number, doc): (&_, &NamedObjectDoc)| {
        let words: Vec<String> =
            doc.values.iter().map(|(word, number)| format!("{word}={number}")).collect();
        format!("{number} {} {}", doc.name, words.join(" ")).trim_end().to_owned()
    };
    found.objects.iter().map(object).collect()
}

#[test]
fn notifications_are_named_with_what_they_carry() {
    let file = MibFile { name: "pumps.mib", text: PUMPS };
    let found = named_objects(&[file], false).expect("is read");
    assert_eq!(
        shown(&found),
        [
            "1.3.6.1.4.1.99999.0.7 pumpBlocked",
            "1.3.6.1.4.1.99999.1.1.2 pumpState blocked=3 running=1 stopped=2",
            "1.3.6.1.4.1.99999.1.1.3 pumpMode automatic=2 manual=1",
        ]
    );
    assert_eq!(Vec::from_iter(found.missing), ["ifIndex of IF-MIB"]);
    let all = named_objects(&[file], true).expect("is read");
    assert_eq!(shown(&all).last().map(String::as_str), Some("1.3.6.1.4.1.99999.1.1.4 pumpLevel"));
    assert!(!shown(&all).iter().any(|object| object.contains("Table")), "{:?}", shown(&all));

    let both = [MibFile { name: "old.mib", text: OLD }, file];
    let found = shown(&named_objects(&both, false).expect("is read"));
    assert!(found.contains(&"1.3.6.1.4.1.99999.0.4 valve".to_owned()), "{found:?}");
    assert!(found.contains(&"1.3.6.1.6.3.1.1.5.4 linkUp".to_owned()), "{found:?}");
}

#[test]
fn what_cannot_be_read_is_refused_with_its_place() {
    let said = |text: &str| {
        let wrong = named_objects(&[MibFile { name: "x.mib", text }], false).expect_err(text);
        wrong.to_string()
    };
    assert_eq!(said(""), "x.mib:1: it defines no module: `NAME DEFINITIONS ::= BEGIN`");
    assert_eq!(said("hello\nworld"), "x.mib:2: `DEFINITIONS ::= BEGIN` is missing");
    assert_eq!(
        said("A DEFINITIONS ::= BEGIN\nx OBJECT IDENTIFIER ::= { y z }"),
        "x.mib:2: the number of x cannot be read"
    );
    assert_eq!(
        said("A DEFINITIONS ::= BEGIN\n\nx OBJECT-TYPE SYNTAX INTEGER { up(one) }"),
        "x.mib:3: `one` is not a number"
    );
    assert_eq!(said("A DEFINITIONS ::= BEGIN"), "x.mib:1: it ends within a definition");
    // What refers to itself has no number.
    let round = "A DEFINITIONS ::= BEGIN x OBJECT IDENTIFIER ::= { y 1 } \
        y OBJECT IDENTIFIER ::= { x 1 } n NOTIFICATION-TYPE ::= { x 2 } END";
    let found = named_objects(&[MibFile { name: "x.mib", text: round }], false).expect("is read");
    assert_eq!((found.objects.len(), Vec::from_iter(found.missing)), (0, vec!["n".to_owned()]));
}

proptest! {
    /// Whatever a file says, there is an answer.
    #[test]
    fn any_file_is_read_or_refused(words in proptest::collection::vec(
        proptest::sample::select(vec!["A", "DEFINITIONS", "::=", "BEGIN", "END", "{", "}", "(", ")",
            "OBJECT", "IDENTIFIER", "x", "1", "--", "\"", "SYNTAX", "INTEGER", "TRAP-TYPE",
            "NOTIFICATION-TYPE", "OBJECTS", "IMPORTS", "FROM", ";", "ENTERPRISE", "é", "\n"]),
        0..60))
    {
        let text = words.join(" ");
        let _ = named_objects(&[MibFile { name: "any", text: &text }], true);
    }
}
