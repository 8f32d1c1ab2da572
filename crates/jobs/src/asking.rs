//! Secrets that were found, and who is asked for the others.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Mutex, MutexGuard, PoisonError};

use reedhook_stores::remote::connect::Secret;
use serde::{Deserialize, Serialize};

use crate::failure::Outcome;

/// Asks a person for a secret; `None` when there is nobody to ask.
pub type AskSecret = dyn Fn(&str) -> Outcome<Option<Secret>> + Send + Sync;

/// Secrets that were found, for all connections of this process, and who is asked for those that are kept nowhere.
pub struct Secrets {
    pub(crate) found: Mutex<HashMap<String, Secret>>,
    pub(crate) opened: Mutex<Opened>,
    pub(crate) ask: Box<AskSecret>,
}

impl Secrets {
    /// Secrets that nobody has looked for yet.
    pub fn asking(ask: impl Fn(&str) -> Outcome<Option<Secret>> + Send + Sync + 'static) -> Secrets {
        Secrets { found: Mutex::default(), opened: Mutex::default(), ask: Box::new(ask) }
    }

    /// Those found so far. Who looks for another one holds them, so that a person is asked once.
    pub(crate) fn found(&self) -> MutexGuard<'_, HashMap<String, Secret>> {
        self.found.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is known of the sealed file of secrets.
    pub(crate) fn opened(&self) -> MutexGuard<'_, Opened> {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn ask(&self, question: &str) -> Outcome<Option<Secret>> {
        (self.ask)(question)
    }
}

impl Default for Secrets {
    fn default() -> Secrets {
        Secrets::asking(|_| Ok(None))
    }
}

#[derive(Default, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct SecretsFile {
    #[serde(default)]
    pub(crate) secrets: BTreeMap<String, String>,
}

/// What is known of the sealed file in this process: it is opened once.
#[derive(Default)]
pub(crate) struct Opened(pub(crate) Option<(String, SecretsFile)>);
