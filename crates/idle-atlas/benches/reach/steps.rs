//! A query for changes alone, beside one for everything, on an SQLite table.

use rusqlite::Connection;

use crate::site::BenchSite;
use crate::{ROOT, median, peak, tell};

pub fn run(rows: usize, runs: usize) {
    let sites = ["where 1", "where updated >= :since"].map(|condition| {
        let query = format!(
            "select '/lamps/' || n || '/' as url, updated as modified, title from lamps {condition}"
        );
        let site = BenchSite::new(ROOT, &format!("from = \"sql\"\nconnection = \"sqlite:lamps.db\"\nquery = \"{query}\""), "");
        let database = Connection::open(site.0.path().join("lamps.db")).expect("a database");
        let script = format!(
            "create table lamps (n integer primary key, updated text, title text);
             insert into lamps with recursive numbers(n) as (select 1 union all select n + 1 from numbers where n < {rows})
             select n, '2026-01-01 00:00:00', 'Lamp ' || n from numbers;
             create index by_date on lamps (updated);"
        );
        database.execute_batch(&script).expect("rows");
        (site, database)
    });
    println!("{rows} rows, medians of {runs}");
    let mut first = Vec::new();
    for (site, _) in &sites {
        first.push(site.run(&["build"]).0);
        // What was written in the second of a build comes once more with the next.
        std::thread::sleep(std::time::Duration::from_secs(1));
        site.run(&["build"]);
    }
    tell("first build", first[0], None, "");
    for (what, changed) in
        [("nothing changed", 0), ("one row changed", 1), ("0.1 % of the rows changed, anywhere", rows / 1000)]
    {
        let mut times = [Vec::new(), Vec::new()];
        let mut peaks = [0; 2];
        for run in 0..runs {
            for (at, (site, database)) in sites.iter().enumerate() {
                let step = rows / changed.max(1);
                let script = format!(
                    "update lamps set title = title || ' again', updated = datetime('now') where {changed} > 0 and n % {step} = {}",
                    (run * 7 + 1) % step
                );
                database.execute_batch(&script).expect("changes");
                let (time, memory) = site.run(&["build"]);
                times[at].push(time);
                peaks[at] = peaks[at].max(memory);
                if changed > 0 {
                    std::thread::sleep(std::time::Duration::from_millis(1100));
                }
            }
        }
        let [everything, changes] = times.map(median);
        tell(&format!("{what}: everything"), everything, None, &peak(peaks[0]));
        tell(&format!("{what}: changes"), changes, Some(everything), &peak(peaks[1]));
    }
}
