//! Open files of a simulated store.

use std::io::{self, Read};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use reedhook_core::entry::Meta;
use reedhook_core::path::RelPath;
use reedhook_core::store::{
    Attributes, Content, CopyError, FaultKind, Flow, Result, Sealed, Stage, StoreError,
};

use crate::simulated::tree::{Operation, Tree};

pub(super) struct SimulatedContent {
    pub(super) tree: Arc<Mutex<Tree>>,
    pub(super) path: RelPath,
    pub(super) content: Arc<Vec<u8>>,
    pub(super) meta: Meta,
    pub(super) at: usize,
}

impl Read for SimulatedContent {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let hook = self.tree.lock().unwrap_or_else(PoisonError::into_inner).before_read.clone();
        if let Some(hook) = hook {
            hook(&self.path, self.at as u64);
        }
        // Small pieces, so that a fault after some bytes finds its place.
        let rest = self.content.get(self.at..).unwrap_or_default();
        let length = rest.len().min(buffer.len()).min(1024);
        let fault = self.tree.lock().unwrap_or_else(PoisonError::into_inner).fault(
            Operation::Read,
            &self.path,
            self.at as u64,
        );
        if let Some(kind) = fault {
            return Err(io::Error::other(format!("a simulated fault: {}", kind.words())));
        }
        buffer[..length].copy_from_slice(&rest[..length]);
        self.at += length;
        Ok(length)
    }
}

impl Content for SimulatedContent {
    fn meta(&mut self) -> Result<Meta> {
        // The node with this identity, under whatever name, as an open file would tell.
        let tree = self.tree.lock().unwrap_or_else(PoisonError::into_inner);
        let same = tree.nodes.values().find(|node| node.meta.id == self.meta.id);
        Ok(same.map_or_else(|| self.meta.clone(), |node| node.meta.clone()))
    }
}

pub(super) struct SimulatedStage {
    pub(super) tree: Arc<Mutex<Tree>>,
    pub(super) target: RelPath,
    pub(super) temporary: RelPath,
    pub(super) content: Vec<u8>,
    /// What an earlier run left, until it is adopted.
    pub(super) left: Vec<u8>,
    pub(super) sealed: bool,
}

impl SimulatedStage {
    pub(super) fn tree(&self) -> MutexGuard<'_, Tree> {
        self.tree.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Stage for SimulatedStage {
    fn write(&mut self, data: &[u8]) -> Result<()> {
        let mut tree = self.tree.lock().unwrap_or_else(PoisonError::into_inner);
        let length = (self.content.len() + data.len()) as u64;
        let full = tree.capacity.is_some_and(|capacity| tree.used() + length > capacity);
        let fault = tree.fault(Operation::Write, &self.target, length);
        match fault.or(full.then_some(FaultKind::NoSpace)) {
            Some(kind) => Err(StoreError::new(kind, "write", &self.target)),
            None => {
                self.content.extend_from_slice(data);
                Ok(())
            }
        }
    }

    fn fill(
        &mut self,
        content: &mut dyn Content,
        _size_hint: u64,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let mut buffer = [0; 4096];
        let mut total = 0;
        loop {
            let length = content.read(&mut buffer).map_err(|error| {
                CopyError::Read(StoreError::new(FaultKind::Io, "read", &self.target).because(error))
            })?;
            if length == 0 {
                return Ok(total);
            }
            self.write(&buffer[..length]).map_err(CopyError::Write)?;
            total += length as u64;
            if progress(length as u64) == Flow::Stop {
                return Err(CopyError::Stopped);
            }
        }
    }

    fn adopt(
        &mut self,
        content: &mut dyn Content,
        progress: &mut dyn FnMut(u64) -> Flow,
    ) -> Result<u64, CopyError> {
        let mut left = std::mem::take(&mut self.left);
        let mut beginning = vec![0; left.len()];
        if content.read_exact(&mut beginning).is_err() || beginning != left {
            return Err(CopyError::Read(StoreError::new(FaultKind::Changed, "read", &self.target)));
        }
        let length = left.len() as u64;
        self.content.append(&mut left);
        if length > 0 {
            progress(length);
        }
        Ok(length)
    }

    fn go_on_at(&mut self, offset: u64) -> Result<bool> {
        let mut left = std::mem::take(&mut self.left);
        let enough = left.len() as u64 >= offset;
        if enough {
            left.truncate(offset as usize);
            self.content = left;
        }
        Ok(enough)
    }

    fn flush(&mut self) -> Result<()> {
        Ok(())
    }

    fn set_aside(mut self: Box<Self>) {
        let content = std::mem::take(&mut self.content);
        if let Some(node) = self.tree().nodes.get_mut(&self.temporary) {
            node.meta.size = content.len() as u64;
            node.content = Arc::new(content);
        }
        self.sealed = true;
    }

    fn seal(mut self: Box<Self>, attributes: &Attributes) -> Result<Sealed> {
        let content = std::mem::take(&mut self.content);
        {
            let mut tree = self.tree();
            let mut content = content;
            if tree.bad_writes {
                content.iter_mut().take(1).for_each(|byte| *byte ^= 1);
            }
            if let Some(node) = tree.nodes.get_mut(&self.temporary) {
                node.meta.size = content.len() as u64;
                node.content = Arc::new(content);
            }
            let mode = Some(attributes.mode.unwrap_or(0o644));
            tree.apply(&self.temporary, &Attributes { mode, modified: attributes.modified, extra: None });
        }
        self.sealed = true;
        Ok(Sealed { target: self.target.clone(), temporary: self.temporary.clone() })
    }
}

impl Drop for SimulatedStage {
    fn drop(&mut self) {
        if !self.sealed {
            self.tree().nodes.remove(&self.temporary);
        }
    }
}
