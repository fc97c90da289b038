//! The former main file: after a renaming it holds what the new one does, for as long as folded files stand, because its
//! address was submitted somewhere.

use atlas_core::placement::packed_name;

use super::Publisher;
use super::state::PublishState;
use crate::destination::{holds, replace};
use crate::error::StoreError;
use crate::ledger::Writing;
use crate::model::{Fact, OutputRow};

impl Publisher<'_> {
    /// Writes what the main file holds under its former name, too.
    pub(super) fn follow_main(&self, state: &mut PublishState, writing: &dyn Writing) -> Result<(), StoreError> {
        let main = self.names.main.as_str();
        if let Some(before) = writing.fact(Fact::Main)?.filter(|before| before != main) {
            writing.set_fact(Fact::FormerMain, Some(&before))?;
            state.published.moved_main = Some(before);
        }
        let Some(former) = writing.fact(Fact::FormerMain)? else { return Ok(()) };
        if former == main || state.published.to_remove.contains(&former) {
            return writing.set_fact(Fact::FormerMain, None);
        }
        for (name, of) in [(former.clone(), main.to_owned()), (packed_name(&former), packed_name(main))] {
            let Some(known) = self.remembered.outputs.get(&name) else { continue };
            let Some(bytes) = self.destination.read(&of)? else { continue };
            let is_same = known.on_disk.crc == crc32fast::hash(&bytes);
            if state.published.to_remove.contains(&name) || is_same && holds(self.destination, &name, &known.on_disk) {
                continue;
            }
            let on_disk = replace(self.destination, &name, &bytes)?;
            writing.set_output(&name, &OutputRow { on_disk, retired: known.retired.or(Some(self.now)) })?;
            state.published.retired.retain(|retired| *retired != name);
            state.published.written.push(name);
        }
        Ok(())
    }
}
