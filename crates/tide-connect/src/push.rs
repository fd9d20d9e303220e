//! A system that pushes: its records are stored as they arrive, so there is nothing to read.

use crate::{
    CheckReport, ConnectError, Connector, Description, SnapshotItem, SnapshotStream, Write,
};
use async_trait::async_trait;
use std::collections::BTreeMap;
use std::sync::Arc;
use tide_core::model::Observed;
use tide_core::states::{CheckStepKind, WatchMode};
use tide_core::{ObjectType, Schema, Value};
use tide_scim::{FlatSchema, GROUP, USER};

/// A system that pushes its accounts to us over SCIM or as events.
pub struct PushConnector;

fn flat(object: ObjectType) -> &'static FlatSchema {
    static SCHEMAS: std::sync::LazyLock<(FlatSchema, FlatSchema)> =
        std::sync::LazyLock::new(|| {
            let users = [tide_scim::schemas::user(), tide_scim::schemas::enterprise()];
            (
                FlatSchema::read(&users, USER),
                FlatSchema::read(&[tide_scim::schemas::group()], GROUP),
            )
        });
    if object == ObjectType::Group {
        &SCHEMAS.1
    } else {
        &SCHEMAS.0
    }
}

/// The account that a pushed resource is.
pub fn pushed_account(
    object: ObjectType,
    resource: &serde_json::Value,
) -> Result<Observed, ConnectError> {
    crate::scim::observed_by(flat(object), "push", resource)
}

#[async_trait]
impl Connector for PushConnector {
    async fn check(&self, report: &mut CheckReport) {
        report.passed(
            CheckStepKind::Ready,
            "it pushes: /scim/v2/NAME accepts SCIM 2.0, /api/v1/events/NAME accepts events",
        );
    }

    async fn describe(&self) -> Result<Description, ConnectError> {
        // Events bring what their sender likes.
        let of = |object| {
            (
                object,
                Schema {
                    is_open: true,
                    ..crate::scim::schema_of(flat(object))
                },
            )
        };
        let schema = BTreeMap::from([of(ObjectType::Person), of(ObjectType::Group)]);
        let profile = vec![("Direction".to_owned(), "push source".to_owned())];
        Ok(Description {
            schema,
            abilities: vec!["pushes over SCIM 2.0 and as events".into()],
            profile,
            own: Vec::new(),
        })
    }

    fn read_all(self: Arc<Self>, _object: ObjectType) -> SnapshotStream {
        crate::spawn_snapshot(|_| async { Ok(SnapshotItem::Unchanged) })
    }

    async fn watch_modes(&self) -> Result<Vec<WatchMode>, ConnectError> {
        Ok(vec![WatchMode::Pushed])
    }

    async fn find(
        &self,
        _object: ObjectType,
        _probes: &[(String, Value)],
    ) -> Result<Vec<Observed>, ConnectError> {
        Ok(Vec::new())
    }

    async fn write(&self, _write: &Write) -> Result<Observed, ConnectError> {
        Err(ConnectError::permanent(
            "push_only",
            "the system pushes to us and cannot be written",
            "connect it as a SCIM service or a directory too, under another name, to write to it",
        ))
    }
}
