//! Charts as SVG. Each shows one thing in one dark tone, so that a printer without colours loses nothing.

use std::ops::Range;

use plotters::prelude::*;

/// Width and height in the page's own units.
const SIZE: (u32, u32) = (480, 170);

const INK: RGBColor = RGBColor(0x1f, 0x4e, 0x5f);
const FAINT: RGBColor = RGBColor(0xdd, 0xdd, 0xdd);
const WORDS: RGBColor = RGBColor(0x33, 0x33, 0x33);

/// How the values of a chart are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    /// A bar each: what was done in a time.
    Bars,
    /// A line through them: what is at a moment.
    Line,
}

/// A chart of values, each at a place on the axis below. `None` when there is nothing to show.
pub(crate) struct Chart<'a> {
    pub form: Form,
    /// Where a value stands, and what it is.
    pub values: &'a [(f64, f64)],
    /// The axis below.
    pub along: Range<f64>,
    /// What stands below the axis.
    pub below: &'a dyn Fn(f64) -> String,
    /// What stands beside it.
    pub beside: &'a dyn Fn(f64) -> String,
}

impl Chart<'_> {
    pub(crate) fn svg(&self) -> Option<String> {
        let largest = self.values.iter().map(|(_, value)| *value).fold(0.0_f64, f64::max);
        if largest <= 0.0 {
            return None;
        }
        let mut text = String::new();
        // What can fail here is writing to a file, and this is memory.
        self.draw(&mut text, round_up(largest)).ok()?;
        Some(text)
    }

    fn draw(&self, text: &mut String, top: f64) -> Result<(), Box<dyn std::error::Error>> {
        let area = SVGBackend::with_string(text, SIZE).into_drawing_area();
        let words = ("sans-serif", 12, &WORDS).into_text_style(&area);
        let mut chart = ChartBuilder::on(&area)
            .margin(6)
            .margin_right(14)
            .x_label_area_size(24)
            .y_label_area_size(66)
            .build_cartesian_2d(self.along.clone(), 0.0..top)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(FAINT)
            .axis_style(FAINT)
            .x_labels(6)
            .y_labels(5)
            .x_label_formatter(&|at| (self.below)(*at))
            .y_label_formatter(&|value| (self.beside)(*value))
            .label_style(words)
            .draw()?;
        match self.form {
            Form::Bars => {
                chart.draw_series(self.values.iter().map(|(at, value)| {
                    Rectangle::new([(*at + 0.1, 0.0), (*at + 0.9, *value)], INK.filled())
                }))?;
            }
            Form::Line => {
                chart.draw_series(LineSeries::new(self.values.iter().copied(), INK.stroke_width(2)))?;
                if let Some(last) = self.values.last() {
                    chart.draw_series([Circle::new(*last, 3, INK.filled())])?;
                }
            }
        }
        area.present()?;
        Ok(())
    }
}

/// The next figure that divides well: 1, 2, 2.5 or 5 times a power of ten.
fn round_up(value: f64) -> f64 {
    let power = 10.0_f64.powf(value.log10().floor());
    let steps = [1.0, 2.0, 2.5, 5.0, 10.0];
    let step = steps.into_iter().find(|step| step * power >= value).unwrap_or(10.0);
    step * power
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_chart_has_a_bar_for_each_value_and_none_of_nothing() {
        for (value, expected) in [(1.0, 1.0), (1.1, 2.0), (23.0, 25.0), (999.0, 1000.0), (0.3, 0.5)] {
            assert!((round_up(value) - expected).abs() < 1e-9, "{value}");
        }
        let values = [(0.0, 3.0), (1.0, 0.0), (2.0, 5.0)];
        let chart = |values| Chart {
            form: Form::Bars,
            values,
            along: 0.0..3.0,
            below: &|at| format!("day {at}"),
            beside: &|value| format!("{value}"),
        };
        let svg = chart(&values).svg().unwrap();
        assert!(svg.starts_with("<svg ") && svg.trim_end().ends_with("</svg>"));
        assert!(svg.matches("fill=\"#1F4E5F\"").count() == 3, "{svg}");
        assert!(chart(&[(0.0, 0.0)]).svg().is_none());
    }
}
