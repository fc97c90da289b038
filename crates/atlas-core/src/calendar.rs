//! The calendar of a run: its instant, and the zone in which the site's days begin and end.

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::lastmod::Lastmod;

/// The largest difference between two time zones, with a margin, in seconds. An instant farther away than this is past
/// or future in every zone.
const NEAR: i64 = 2 * 86_400;
/// 1990-01-01. No page is older; an earlier date is a default that nobody filled in.
const FIRST: i64 = 631_152_000;

/// The instant of a run and the site's zone, which together tell whether a date has come.
///
/// ```
/// use atlas_core::calendar::Calendar;
/// use atlas_core::lastmod::Lastmod;
/// use jiff::tz::TimeZone;
///
/// let zone = TimeZone::get("America/Los_Angeles").unwrap();
/// let day = Lastmod::read("2026-12-01", &zone).unwrap();
/// // 17:00 on the last of November in Los Angeles is 01:00 on the first of December in London.
/// let calendar = Calendar { now: 1_796_086_800, zone };
/// assert!(calendar.is_to_come(&day));
/// assert!(!Calendar::utc(calendar.now).is_to_come(&day));
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Calendar {
    /// The instant of the run, in seconds since 1970.
    pub now: i64,
    /// The site's zone.
    pub zone: TimeZone,
}

impl Calendar {
    /// A calendar in UTC.
    pub fn utc(now: i64) -> Self {
        Self { now, zone: TimeZone::UTC }
    }

    /// The instant at which a date begins, in seconds since 1970. A day begins at midnight in the site's zone.
    pub fn start(&self, date: &Lastmod) -> i64 {
        match date {
            Lastmod::Day(day) => {
                day.to_zoned(self.zone.clone()).map_or(date.seconds(), |at| at.timestamp().as_second())
            }
            Lastmod::Instant { seconds, .. } => *seconds,
        }
    }

    /// Whether a date begins after this instant.
    pub fn is_to_come(&self, date: &Lastmod) -> bool {
        let in_utc = date.seconds() - self.now;
        // Called for every row: the zone is consulted only if it matters.
        if in_utc.abs() > NEAR { in_utc > 0 } else { self.start(date) > self.now }
    }

    /// Whether a date may be written as the last change of a page: it is not in the future and not older than the web.
    pub fn may_be_written(&self, date: &Lastmod) -> bool {
        date.seconds() >= FIRST && !self.is_to_come(date)
    }

    /// The day of the run in the site's zone, counted from 1970-01-01.
    pub fn today(&self) -> i32 {
        let now = Timestamp::from_second(self.now).unwrap_or(Timestamp::UNIX_EPOCH);
        Lastmod::Day(now.to_zoned(self.zone.clone()).date()).epoch_day()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// 2026-07-01T23:30:00Z: half past midnight of the second of July in London.
    const NIGHT: i64 = 1_782_948_600;

    #[rstest]
    #[case::begun_in_london("Europe/London", "2026-07-02", false)]
    #[case::not_in_utc("UTC", "2026-07-02", true)]
    #[case::tomorrow("Europe/London", "2026-07-03", true)]
    #[case::ahead("Pacific/Auckland", "2026-07-03", true)]
    #[case::an_instant_has_no_zone("Europe/London", "2026-07-01T23:30:01Z", true)]
    #[case::the_instant_itself("Europe/London", "2026-07-01T23:30:00Z", false)]
    #[case::far("Europe/London", "2031-01-01", true)]
    fn a_day_begins_in_the_sites_zone(#[case] zone: &str, #[case] date: &str, #[case] to_come: bool) {
        let calendar = Calendar { now: NIGHT, zone: TimeZone::get(zone).unwrap() };
        let date = Lastmod::read(date, &calendar.zone).unwrap();
        assert_eq!(calendar.is_to_come(&date), to_come);
    }

    #[rstest]
    #[case("2026-07-01", true)]
    #[case("1990-01-01", true)]
    #[case("1989-12-31", false)]
    #[case("1970-01-01T00:00:00Z", false)]
    #[case("0000-01-01", false)]
    #[case("2026-07-03", false)]
    #[case("9999-12-31", false)]
    fn dates_that_may_be_written(#[case] date: &str, #[case] wanted: bool) {
        let calendar = Calendar::utc(NIGHT);
        assert_eq!(calendar.may_be_written(&Lastmod::read(date, &calendar.zone).unwrap()), wanted);
    }

    #[test]
    fn today_is_a_day_of_the_site() {
        let day = |zone: &str| Calendar { now: NIGHT, zone: TimeZone::get(zone).unwrap() }.today();
        assert_eq!(day("Europe/London"), day("UTC") + 1);
    }
}
