//! Runs, leavers who overtake them, edits and what systems tell meanwhile, all at once: nothing is
//! done twice, and what it comes to is right. In what order things happen is the scheduler's; a
//! seed says only what is done.

use crate::world::{ALL, BERTHING, HARBOUR};
use crate::{KEY, Sim, Told, fault};
use rand::RngExt as _;
use std::sync::Arc;
use std::time::Duration;
use tide_core::ObjectType;
use tide_engine::{Engine, EngineConfig, EngineError, Plan};
use tide_store::{ChangeFilter, MasterKey, Store};

/// What was sent, run by run: in what order things happened is not to be had again.
async fn history(engine: &Engine) -> String {
    let (mut told, mut id) = (String::new(), 1);
    while let Ok(set) = engine.store().change_set(id).await {
        told.push_str(&format!(
            "{id}: {} by {}, {} to {:?}\n",
            set.kind, set.principal, set.started_at, set.ended_at
        ));
        let all = ChangeFilter {
            limit: i64::MAX,
            ..ChangeFilter::default()
        };
        for row in engine
            .store()
            .list_changes(id, &all)
            .await
            .unwrap_or_default()
        {
            let change = &row.change;
            let values: Vec<String> = change
                .values
                .iter()
                .map(|v| format!("{} {:?} -> {:?}", v.attribute, v.before, v.after))
                .collect();
            let (label, why) = (
                &change.label,
                row.error
                    .clone()
                    .or(change.hold.as_ref().map(ToString::to_string)),
            );
            told.push_str(&format!(
                "   {} {} {label} {:?} {:?} {why:?} {}\n",
                change.system,
                change.kind,
                change.account,
                row.state,
                values.join(", ")
            ));
        }
        id += 1;
    }
    let all = ChangeFilter {
        limit: i64::MAX,
        ..ChangeFilter::default()
    };
    for line in engine
        .store()
        .list_outcomes(id - 1, &all)
        .await
        .unwrap_or_default()
    {
        let line = &line.decided;
        let (verdict, why) = (line.verdict.as_str(), line.reason.to_string());
        told.push_str(&format!(
            "   {} {:?} of {:?}, {}: {verdict}: {why}\n",
            line.system, line.account, line.identity, line.label
        ));
    }
    told
}

impl Sim {
    pub async fn at_once(&mut self) -> Told {
        let store = Store::open(&self.file, MasterKey::parse(KEY).map_err(fault("key"))?)
            .await
            .map_err(fault("the store"))?;
        let ties = EngineConfig {
            systems: Some(Arc::new(self.world.clone())),
            seed: Some(self.seed),
            accounts_at_a_time: 3,
            // Full decisions at once, and in chunks of some records.
            chunk_size: [None, Some(1), Some(7), Some(40)][self.seed as usize % 4],
            ..EngineConfig::default()
        };
        let engine = Engine::with_config(store, Arc::new(self.world.clone()), ties);
        engine
            .ingest()
            .read_all()
            .await
            .map_err(fault("the first reading"))?;
        engine
            .runner()
            .run_once()
            .await
            .map_err(fault("the first run"))?;
        {
            let mut world = self.world.lock();
            (world.slow, world.queues) = (true, self.seed.is_multiple_of(2));
        }
        let without_reading = self.seed.is_multiple_of(3);
        for round in 0..6 {
            self.edit();
            self.edit();
            engine
                .ingest()
                .sync_once(HARBOUR, ObjectType::Person)
                .await
                .map_err(fault("catching up"))?;
            let by_hand = async {
                if round % 3 != 2 {
                    return engine.runner().run_once().await.map(|_| ());
                }
                let plan = Plan {
                    carry_out: true,
                    without_reading,
                    ..Plan::default()
                };
                match engine.runner().begin_change_set(plan, "sim").await {
                    Ok(_) | Err(EngineError::Busy(_)) => Ok(()),
                    Err(error) => Err(error),
                }
            };
            let asking = async {
                for _ in 0..30 {
                    engine.dispatcher().poll_operations().await?;
                    tokio::time::sleep(Duration::from_micros(500)).await;
                }
                Ok::<(), EngineError>(())
            };
            let (ran, asked, meanwhile) = tokio::join!(by_hand, asking, self.meanwhile(&engine));
            ran.and(asked).map_err(fault("a run"))?;
            meanwhile?;
            self.settled(&engine).await?;
        }
        let wrong: Vec<String> = {
            let mut world = self.world.lock();
            (world.slow, world.queues) = (false, false);
            let needless = ALL
                .into_iter()
                .flat_map(|name| std::mem::take(&mut world.place(name).needless))
                .collect::<Vec<_>>();
            needless
                .into_iter()
                .chain(std::mem::take(&mut world.broken))
                .collect()
        };
        if !wrong.is_empty() {
            return Err(format!("{}\n{}", wrong.join("\n"), history(&engine).await));
        }
        match self.rest(&engine).await {
            Ok(()) => Ok(()),
            Err(error) => Err(format!("{error}\n{}", history(&engine).await)),
        }
    }

    /// What happens while a run is on its way.
    async fn meanwhile(&mut self, engine: &Arc<Engine>) -> Told {
        for _ in 0..4 {
            tokio::time::sleep(Duration::from_micros(self.random.random_range(0..6_000))).await;
            if self.random.random_bool(0.5) {
                self.edit();
            }
            engine
                .ingest()
                .sync_once(HARBOUR, ObjectType::Person)
                .await
                .map_err(fault("catching up"))?;
            engine
                .runner()
                .preempt_for_leavers()
                .await
                .map_err(fault("overtaking"))?;
            engine
                .ingest()
                .sync_once(BERTHING, ObjectType::Person)
                .await
                .map_err(fault("catching up"))?;
        }
        Ok(())
    }
}
