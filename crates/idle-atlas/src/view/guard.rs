//! What a user who reads about a guard does next.

use atlas_store::report::Held;

/// How to go on, with the command.
pub fn advice(held: &Held) -> String {
    let command = held.guard.option().map_or("survey".to_owned(), |option| format!("build --allow {option}"));
    format!("{}: idle-atlas {command}", held.mend)
}

/// What would happen, and how to go on.
pub fn held(held: &Held) -> String {
    format!("{}. {}", held.message, advice(held))
}
