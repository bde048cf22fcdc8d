//! A course read again with some of its text changed: it is checked as any other is.

use std::sync::Arc;

use toml::Table;
use velocitas_core::Motion;

use super::{Course, CourseError, Sources};

impl Course {
    /// This course with its text changed: read anew, with the files and rules that it has. Its seed stays, whatever the text says.
    ///
    /// # Errors
    /// When what is there then is no course that can be run. Places are those of the changed text.
    pub(crate) fn edited(&self, edit: impl FnOnce(&mut Table)) -> Result<Self, CourseError> {
        const FILE: &str = "the changed course";
        let mut table: Table =
            toml::from_str(&self.text).map_err(|why| CourseError::from_toml(FILE, &self.text, &why))?;
        edit(&mut table);
        let text = table.to_string();
        let is_own = |kind: &u8| *kind > 0 && self.gait_file(*kind).is_none();
        let own = self.kinds.iter().map(|(kind, _)| kind).filter(is_own);
        let own: Vec<Arc<dyn Motion>> = own.filter_map(|kind| self.plain.get(usize::from(kind)).cloned()).collect();
        let read = |path: &str| {
            let file = self.files.iter().find(|file| file.path == path);
            file.map(|file| file.text.clone()).ok_or_else(|| "the course did not name it".to_owned())
        };
        let course = Self::parse_with(FILE, &text, Sources { own: &own, read: &read })?;
        Ok(Self { seed: self.seed, text: self.text.clone(), ..course })
    }
}
