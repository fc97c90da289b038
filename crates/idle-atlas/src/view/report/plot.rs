//! Plots as SVG, from values: each with a title, units, and words for those who cannot see it.

use std::fmt::Write;

use htmlize::escape_attribute as escape;

use crate::screen::grouped;

const WIDTH: f64 = 720.0;
const HEIGHT: f64 = 220.0;
/// The room for the labels of the axes.
const LEFT: f64 = 64.0;
const BOTTOM: f64 = 28.0;
const TOP: f64 = 10.0;
const RIGHT: f64 = 8.0;
/// How many bars there are at most.
const MOST_BARS: usize = 60;

/// A series of values over time, each with its instant in seconds since 1970.
pub struct Series<'s> {
    pub name: &'s str,
    /// The class by which it is coloured.
    pub class: &'s str,
    pub values: Vec<u64>,
}

/// The least round number that is not below the greatest value: 1, 2 or 5 times a power of ten.
pub fn ceiling(greatest: u64) -> u64 {
    let mut power = 1u64;
    loop {
        for step in [1, 2, 5] {
            let round = power.saturating_mul(step);
            if round >= greatest.max(1) {
                return round;
            }
        }
        power = power.saturating_mul(10);
    }
}

fn frame(label: &str, top: u64, unit: &str, days: (&str, &str), inside: &str) -> String {
    let mut out = format!(
        "<svg viewBox=\"0 0 {WIDTH} {HEIGHT}\" role=\"img\" aria-label=\"{}\"><g class=\"axis\">",
        escape(label)
    );
    for (share, number) in [(0.0, 0), (0.5, top / 2), (1.0, top)] {
        if share == 0.5 && top < 2 {
            continue;
        }
        let y = HEIGHT - BOTTOM - share * (HEIGHT - BOTTOM - TOP);
        let _ = write!(
            out,
            "<path d=\"M{LEFT} {y:.1}H{:.1}\"/><text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"end\">{}</text>",
            WIDTH - RIGHT,
            LEFT - 6.0,
            y + 4.0,
            grouped(number)
        );
    }
    let y = HEIGHT - 8.0;
    let _ = write!(
        out,
        "<text x=\"{LEFT}\" y=\"{y}\">{}</text><text x=\"{:.1}\" y=\"{y}\" text-anchor=\"end\">{}</text><text x=\"{:.1}\" y=\"{y}\" text-anchor=\"middle\">{}</text></g>{inside}</svg>",
        escape(days.0),
        WIDTH - RIGHT,
        escape(days.1),
        (LEFT + WIDTH - RIGHT) / 2.0,
        escape(unit)
    );
    out
}

/// A line that stays level between its points, as counts do between two builds.
pub fn steps(label: &str, points: &[(i64, u64)], unit: &str, days: (&str, &str)) -> String {
    let (Some(first), Some(last)) = (points.first(), points.last()) else { return String::new() };
    let top = ceiling(points.iter().map(|(_, value)| *value).max().unwrap_or(0));
    let span = (last.0 - first.0).max(1) as f64;
    let x = |at: i64| LEFT + (at - first.0) as f64 / span * (WIDTH - LEFT - RIGHT);
    let y = |value: u64| HEIGHT - BOTTOM - value as f64 / top as f64 * (HEIGHT - BOTTOM - TOP);
    let mut line = format!("M{:.1} {:.1}", x(first.0), y(first.1));
    for (at, value) in &points[1..] {
        let _ = write!(line, "H{:.1}V{:.1}", x(*at), y(*value));
    }
    if points.len() == 1 {
        let _ = write!(line, "H{:.1}", WIDTH - RIGHT);
    }
    let area = format!("{line}V{:.1}H{LEFT}Z", HEIGHT - BOTTOM);
    frame(label, top, unit, days, &format!("<path class=\"area\" d=\"{area}\"/><path class=\"line\" d=\"{line}\"/>"))
}

/// Bars over time, one on the other; `times` are the instants of the values. Beyond some number they are added up.
pub fn bars(label: &str, times: &[i64], series: &[Series<'_>], unit: &str, days: (&str, &str)) -> String {
    let (Some(first), Some(last)) = (times.first(), times.last()) else { return String::new() };
    let number = times.len().min(MOST_BARS);
    let span = (last - first).max(1) as f64;
    let slot = |at: i64| match times.len() <= MOST_BARS {
        true => times.iter().position(|known| *known == at).unwrap_or(0),
        false => (((at - first) as f64 / span) * (number - 1) as f64).round() as usize,
    };
    let mut sums = vec![vec![0u64; number]; series.len()];
    for (nth, at) in times.iter().enumerate() {
        let slot = slot(*at).min(number - 1);
        series.iter().zip(&mut sums).for_each(|(one, sums)| sums[slot] += one.values[nth]);
    }
    let heights = (0..number).map(|slot| sums.iter().map(|sums| sums[slot]).sum::<u64>());
    let top = ceiling(heights.max().unwrap_or(0));
    let width = (WIDTH - LEFT - RIGHT) / number as f64;
    let scale = (HEIGHT - BOTTOM - TOP) / top as f64;
    let mut inside = String::new();
    for slot in 0..number {
        let mut below = HEIGHT - BOTTOM;
        for (one, sums) in series.iter().zip(&sums) {
            let height = sums[slot] as f64 * scale;
            if height > 0.0 {
                below -= height;
                let _ = write!(
                    inside,
                    "<rect class=\"{}\" x=\"{:.1}\" y=\"{below:.1}\" width=\"{:.1}\" height=\"{height:.1}\"/>",
                    one.class,
                    LEFT + slot as f64 * width + width * 0.1,
                    (width * 0.8).min(40.0)
                );
            }
        }
    }
    let legend: String =
        series.iter().map(|one| format!("<span class=\"key {}\">{}</span>", one.class, escape(one.name))).collect();
    format!("{}<p class=\"legend\">{legend}</p>", frame(label, top, unit, days, &inside))
}

/// Shares of a whole as one bar.
pub fn shares(label: &str, parts: &[(&str, &str, u64)]) -> String {
    let all: u64 = parts.iter().map(|(_, _, number)| number).sum();
    if all == 0 {
        return String::new();
    }
    let mut out = format!(
        "<svg class=\"shares\" viewBox=\"0 0 100 6\" preserveAspectRatio=\"none\" role=\"img\" aria-label=\"{}\">",
        escape(label)
    );
    let mut from = 0.0;
    for (_, class, number) in parts {
        let width = *number as f64 / all as f64 * 100.0;
        let _ = write!(out, "<rect class=\"{class}\" x=\"{from:.2}\" y=\"0\" width=\"{width:.2}\" height=\"6\"/>");
        from += width;
    }
    out + "</svg>"
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, 1)]
    #[case(3, 5)]
    #[case(85, 100)]
    #[case(1_000, 1_000)]
    #[case(1_001, 2_000)]
    fn ceilings_are_round(#[case] greatest: u64, #[case] wanted: u64) {
        assert_eq!(ceiling(greatest), wanted);
    }

    #[test]
    fn plots_stay_within_their_frame() {
        let points: Vec<(i64, u64)> = (0..500).map(|nth| (nth * 86_400, (nth % 7) as u64)).collect();
        let times: Vec<i64> = points.iter().map(|(at, _)| *at).collect();
        let values = points.iter().map(|(_, value)| *value).collect();
        let series = [Series { name: "added <b>", class: "added", values }];
        let drawn =
            bars("changes", &times, &series, "URLs", ("a", "b")) + &steps("entries", &points, "URLs", ("a", "b"));
        assert_eq!(drawn.matches("<svg").count(), 2);
        assert!(!drawn.contains("NaN") && !drawn.contains("<b>"));
        assert!(drawn.matches("<rect").count() <= MOST_BARS);
        assert_eq!(steps("none", &[], "URLs", ("", "")), "");
    }
}
