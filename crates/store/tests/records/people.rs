//! Tokens, sessions and secrets.

use crate::kit::{block, migrated, now, one, rows, seconds};
use arvok_core::Principal;
use arvok_core::Role;
use arvok_store::{
    StoreError,
    access::{self, Revoked},
    nodes,
    secrets::{self, Sealed},
};

#[test]
fn of_nodes_that_start_at_once_one_writes_the_first_token() {
    let db = migrated();
    block(async {
        let first = |n: usize| {
            let db = &db;
            async move {
                access::add_first_token::<_, StoreError>(db, &format!("arvok_{n}"), now(), || Ok(n))
                    .await
            }
        };
        let done = futures_util::future::join_all((0..4).map(first)).await;
        let wrote: Vec<usize> = done.into_iter().filter_map(|d| d.expect("no error")).collect();
        assert_eq!(wrote.len(), 1);
        let who = access::by_token(&db, &format!("arvok_{}", wrote[0]))
            .await
            .expect("asks")
            .expect("known");
        assert_eq!((who.1.name.as_str(), who.1.role), ("admin", Role::Admin));
        assert_eq!(access::tokens(&db).await.expect("lists").len(), 1);
    });
}

#[test]
fn a_first_token_that_could_not_be_written_down_does_not_count() {
    let db = migrated();
    block(async {
        let failed = access::add_first_token(&db, "arvok_a", now(), || {
            Err::<(), _>(StoreError::BrokenOff("writing"))
        })
        .await;
        assert!(matches!(failed, Err(StoreError::BrokenOff(_))), "{failed:?}");
        assert!(!access::any_token(&db).await.expect("asks"));
        let again = access::add_first_token::<_, StoreError>(&db, "arvok_b", now(), || Ok(()))
            .await
            .expect("no error");
        assert!(again.is_some(), "the next start writes one");
    });
}

#[test]
fn a_token_is_known_by_its_hash_and_its_sessions_end_with_it() {
    let db = migrated();
    block(async {
        access::add_token(&db, "kim", Role::Author, "arvok_secret", now()).await.expect("adds");
        let taken = access::add_token(&db, "kim", Role::Viewer, "arvok_other", now()).await;
        assert!(matches!(&taken, Err(StoreError::Taken(name)) if name == "kim"), "{taken:?}");
        let stored = rows(&db, "SELECT * FROM token").await;
        assert!(!format!("{stored:?}").contains("secret"), "{stored:?}");
        let (id, who) = access::by_token(&db, "arvok_secret").await.expect("asks").expect("known");
        assert_eq!(who.role, Role::Author);
        assert!(access::by_token(&db, "arvok_secre").await.expect("asks").is_none());

        access::start_session(&db, id, "cookie", now()).await.expect("starts");
        let whose = |at| access::by_session(&db, "cookie", at);
        assert_eq!(whose(now()).await.expect("asks").expect("known").name, "kim");
        assert!(
            whose(now() + access::SESSION + seconds(1)).await.expect("asks").is_none(),
            "it ends by itself"
        );
        access::start_session(&db, id, "later", now() + access::SESSION + seconds(1))
            .await
            .expect("starts");
        assert_eq!(
            one(&db, "SELECT count(*) AS x FROM session").await,
            1,
            "what has ended is removed on the way"
        );
        access::end_session(&db, "later").await.expect("ends");
        assert!(access::by_session(&db, "later", now()).await.expect("asks").is_none());

        access::start_session(&db, id, "third", now()).await.expect("starts");
        assert_eq!(
            access::remove_token(&db, "kim", &Principal::token("admin")).await.expect("removes"),
            Revoked::Yes
        );
        assert_eq!(
            access::remove_token(&db, "kim", &Principal::token("admin")).await.expect("removes"),
            Revoked::Unknown
        );
        let again = access::add_token(&db, "kim", Role::Admin, "arvok_other", now())
            .await
            .expect_err("refused");
        assert!(again.to_string().contains("is revoked; it is not made again"), "{again}");
        assert!(access::by_session(&db, "third", now()).await.expect("asks").is_none());
        assert!(access::by_token(&db, "arvok_secret").await.expect("asks").is_none());
    });
}

#[test]
fn a_secret_is_replaced_whole_with_where_it_may_go() {
    let db = migrated();
    block(async {
        let sealed = |value: &[u8], place: &str| Sealed {
            name: "office".into(),
            sealed: value.to_vec(),
            allowed: vec![place.into()],
        };
        let before = one(&db, "SELECT generation AS x FROM catalog").await;
        secrets::set(&db, sealed(b"one", "connection/yard"), now()).await.expect("sets");
        secrets::set(&db, sealed(b"two", "source/yard"), now()).await.expect("sets again");
        let all = secrets::all(&db).await.expect("reads");
        assert_eq!(
            (all.len(), all[0].sealed.as_slice(), all[0].allowed.clone()),
            (1, &b"two"[..], vec!["source/yard".to_owned()])
        );
        let listed = secrets::list(&db).await.expect("lists");
        assert_eq!(listed[0].allowed, ["source/yard"]);
        assert_ne!(
            one(&db, "SELECT generation AS x FROM catalog").await,
            before,
            "every node learns of it"
        );
        assert!(secrets::remove(&db, "office").await.expect("removes"));
        assert!(!secrets::remove(&db, "office").await.expect("removes"));
        assert!(secrets::all(&db).await.expect("reads").is_empty());
    });
}

#[test]
fn nodes_come_and_go_and_a_restart_is_not_two() {
    let db = migrated();
    block(async {
        let beat = |name: &str, address: &str| nodes::Beat {
            name: name.into(),
            host: "tern-1".into(),
            address: address.into(),
            build: "0.1.0".into(),
            since: now(),
            generation: 1,
            clock_offset: 0.25,
            intake_bytes: 0,
            oldest_seconds: 0.0,
            commit_seconds: 0.01,
            fault: None,
            answers_fault: None,
            certificate_until: None,
            listeners: Vec::new(),
        };
        for (name, address) in [
            ("a", "127.0.0.1:1"),
            ("b", "127.0.0.1:2"),
            ("a2", "127.0.0.1:1"),
            ("a2", "127.0.0.1:1"),
        ] {
            nodes::beat(&db, &beat(name, address)).await.expect("beats");
        }
        let known: Vec<String> =
            nodes::all(&db).await.expect("lists").into_iter().map(|n| n.name).collect();
        assert_eq!(known, ["b", "a2"], "the longest running first");
        nodes::leave(&db, "b").await.expect("leaves");
        assert_eq!(nodes::all(&db).await.expect("lists").len(), 1);
    });
}
