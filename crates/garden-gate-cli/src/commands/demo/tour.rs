//! The tour: from a first look to a plan and a mistake.

use super::{DemoStep, Show};

pub(super) const TOUR: &[DemoStep] = &[
    DemoStep {
        title: "Look",
        words: "Hollowmere Garden has 48 beds. What is in the table?",
        sql: "SELECT * FROM bed ORDER BY bed_id FETCH FIRST 6 ROWS ONLY",
        show: Show::Rows,
    },
    DemoStep {
        title: "Filter, and count what is missing",
        words: "Beds in the shade, and beds not in the shade. Do the two make 48?",
        sql: "SELECT COUNT(*) AS not_in_shade FROM bed WHERE sun <> 'shade'",
        show: Show::Rows,
    },
    DemoStep {
        title: "Rows lost to NULL",
        words: "Where nobody wrote down the sun, `sun <> 'shade'` is UNKNOWN, and WHERE keeps only TRUE.\nA measured plan counts all three.",
        sql: "SELECT COUNT(*) AS not_in_shade FROM bed WHERE sun <> 'shade'",
        show: Show::Measured,
    },
    DemoStep {
        title: "Say what NULL should mean",
        words: "IS DISTINCT FROM is never UNKNOWN; CASE can name the gap.",
        sql: "SELECT COALESCE(sun, 'not known') AS sun, COUNT(*) AS beds, SUM(area_m2) AS area,\n       CASE WHEN AVG(area_m2) > 130 THEN 'large' ELSE 'small' END AS size\nFROM bed\nWHERE sun IS DISTINCT FROM 'shade'\nGROUP BY COALESCE(sun, 'not known')\nORDER BY beds DESC",
        show: Show::Rows,
    },
    DemoStep {
        title: "Join and group",
        words: "Which beds take the work? One bed stands out.",
        sql: "SELECT b.name, b.bed_id, COUNT(*) AS tasks, SUM(t.hours) AS hours\nFROM task AS t JOIN bed AS b USING (bed_id)\nWHERE t.day >= DATE '2024-01-01' AND t.day < DATE '2024-01-01' + INTERVAL '12' MONTH\nGROUP BY b.name, b.bed_id\nORDER BY hours DESC\nFETCH FIRST 5 ROWS ONLY",
        show: Show::Rows,
    },
    DemoStep {
        title: "Ask for the plan before it runs",
        words: "The same question with a gardener's name: how will it be evaluated, and what should it cost?",
        sql: "SELECT g.name, COUNT(*) AS tasks, SUM(t.hours) AS hours\nFROM task AS t\nJOIN gardener AS g ON g.gardener_id = t.gardener_id\nJOIN bed AS b ON b.bed_id = t.bed_id\nWHERE b.bed_id = 7 AND t.kind = 'weeding'\nGROUP BY g.name\nORDER BY hours DESC\nFETCH FIRST 3 ROWS ONLY",
        show: Show::Plan,
    },
    DemoStep {
        title: "Measure it",
        words: "The plan that is shown is the plan that runs: here it is again, with what each step did beside\nwhat was expected. Nearly half of all work is done in bed 7, and the planner knew: the condition on\nb.bed_id is implied for task too, where statistics say how common 7 is. Every estimate is close.",
        sql: "SELECT g.name, COUNT(*) AS tasks, SUM(t.hours) AS hours\nFROM task AS t\nJOIN gardener AS g ON g.gardener_id = t.gardener_id\nJOIN bed AS b ON b.bed_id = t.bed_id\nWHERE b.bed_id = 7 AND t.kind = 'weeding'\nGROUP BY g.name\nORDER BY hours DESC\nFETCH FIRST 3 ROWS ONLY",
        show: Show::Measured,
    },
    DemoStep {
        title: "Make a mistake",
        words: "A bare word where text was meant:",
        sql: "SELECT accession_no, donor\nFROM accession\nWHERE country = Norway",
        show: Show::Mistake,
    },
];
