//! What both ends of a session have agreed on before the first datagram, and what each machine knows of the world.

mod kinds;
mod layouts;
mod timeline;

pub use kinds::Kinds;
pub use layouts::{Layouts, Owned};
pub use timeline::{Ingredients, Timeline};
