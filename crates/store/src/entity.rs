//! Entities of the small tables, for ordinary queries.

/// Versions of documents.
pub mod definition {
    use sea_orm::entity::prelude::*;

    /// One version of one document.
    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "definition")]
    pub struct Model {
        /// `source`, `rule`, ...
        #[sea_orm(primary_key, auto_increment = false)]
        pub kind: String,
        /// Its name.
        #[sea_orm(primary_key, auto_increment = false)]
        pub name: String,
        /// From one.
        #[sea_orm(primary_key, auto_increment = false)]
        pub version: i32,
        /// The file it came from.
        pub file: String,
        /// The document.
        #[sea_orm(column_type = "Text")]
        pub text: String,
        /// When.
        pub published_at: DateTimeUtc,
        /// By whom.
        pub published_by: String,
        /// Whether this version withdraws it.
        pub withdrawn: bool,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    #[expect(missing_docs, reason = "has no variants")]
    pub enum Relation {}

    impl ActiveModelBehavior for ActiveModel {}
}

/// Access tokens; only their hashes.
pub mod token {
    use sea_orm::entity::prelude::*;

    /// One token.
    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "token")]
    pub struct Model {
        /// Its number.
        #[sea_orm(primary_key)]
        pub id: i64,
        /// Its name.
        pub name: String,
        /// What it allows.
        pub role: String,
        /// SHA-256 of the token.
        pub hash: Vec<u8>,
        /// When it was made.
        pub created_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    #[expect(missing_docs, reason = "has no variants")]
    pub enum Relation {}

    impl ActiveModelBehavior for ActiveModel {}
}

/// Sessions of the console; only their hashes.
pub mod session {
    use sea_orm::entity::prelude::*;

    /// One session.
    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "session")]
    pub struct Model {
        /// SHA-256 of the cookie.
        #[sea_orm(primary_key, auto_increment = false)]
        pub hash: Vec<u8>,
        /// The token that signed in.
        pub token_id: i64,
        /// When it ends.
        pub expires_at: DateTimeUtc,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    #[expect(missing_docs, reason = "has no variants")]
    pub enum Relation {}

    impl ActiveModelBehavior for ActiveModel {}
}

/// Secrets, sealed.
pub mod secret {
    use sea_orm::entity::prelude::*;

    /// One secret.
    #[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
    #[sea_orm(table_name = "secret")]
    pub struct Model {
        /// Its name.
        #[sea_orm(primary_key, auto_increment = false)]
        pub name: String,
        /// The sealed value.
        pub sealed: Vec<u8>,
        /// When it was set.
        pub changed_at: DateTimeUtc,
        /// Where it may go: sources and connections as `kind/name`.
        pub allowed: Vec<String>,
    }

    #[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
    #[expect(missing_docs, reason = "has no variants")]
    pub enum Relation {}

    impl ActiveModelBehavior for ActiveModel {}
}
