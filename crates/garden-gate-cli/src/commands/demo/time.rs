//! History of rows, periods of validity, and questions about both.

use super::{DemoStep, Show};

/// Makes the tables: the prices commit by commit, and the bays of the greenhouse.
pub(super) const SETUP: &str = include_str!("../../../../../demo/time.sql");

pub(super) const STEPS: &[DemoStep] = &[
    DemoStep {
        title: "What was done",
        words: "The table seed_price keeps its history, and a script has changed it. Every commit has a number.",
        sql: "SELECT commit_number, table_name, rows_added, rows_changed, rows_removed\nFROM INFORMATION_SCHEMA.COMMITS\nORDER BY commit_number",
        show: Show::Rows,
    },
    DemoStep {
        title: "The rows of today, and those of a commit",
        words: "A query reads the current rows. FOR SYSTEM_TIME AS OF reads those of a moment: a time, or a commit.",
        sql: "SELECT COUNT(*) AS prices, AVG(today.price) AS average_today, AVG(early.price) AS average_early\nFROM seed_price AS today\nFULL JOIN seed_price FOR SYSTEM_TIME AS OF COMMIT 3 AS early USING (taxon_id)",
        show: Show::Rows,
    },
    DemoStep {
        title: "All versions of a row",
        words: "Each version begins at a commit, and ends at the next that changes or deletes the row.",
        sql: "SELECT p.price, began.commit_number AS began, ended.commit_number AS ended\nFROM seed_price FOR SYSTEM_TIME ALL AS p\nJOIN INFORMATION_SCHEMA.COMMITS AS began ON began.commit_time = p.system_start\nLEFT JOIN INFORMATION_SCHEMA.COMMITS AS ended ON ended.commit_time = p.system_end\nWHERE p.taxon_id = 46\nORDER BY began",
        show: Show::Rows,
    },
    DemoStep {
        title: "What has changed",
        words: "Commit 6 raised all prices by mistake, and commit 7 put some of them right.",
        sql: "SELECT commit_number, change, taxon_id, old_price, new_price\nFROM CHANGES OF seed_price BETWEEN COMMIT 6 AND COMMIT 7\nWHERE taxon_id < 20\nORDER BY taxon_id, commit_number",
        show: Show::Rows,
    },
    DemoStep {
        title: "History lies apart",
        words: "A query of current rows reads none of it: 171 rows, though 434 versions have ended.",
        sql: "SELECT COUNT(*) AS prices FROM seed_price",
        show: Show::Measured,
    },
    DemoStep {
        title: "Periods",
        words: "A booking of a bay has a period, from the day it starts to the day on which it is free again.",
        sql: "SELECT bay, gardener_id, starts, ends, purpose\nFROM bay_booking\nWHERE stay CONTAINS DATE '2024-08-01'\nORDER BY bay",
        show: Show::Rows,
    },
    DemoStep {
        title: "A booking that is refused",
        words: "No two bookings of a bay overlap: PRIMARY KEY (bay, stay WITHOUT OVERLAPS). The error has both periods.",
        sql: "INSERT INTO bay_booking\nVALUES ('Bay 1', 4, DATE '2024-08-20', DATE '2024-09-03', 'cuttings')",
        show: Show::Mistake,
    },
    DemoStep {
        title: "A portion of a period",
        words: "For two days another gardener takes the bay: the row is split, and what is left of it stays as it was.",
        sql: "UPDATE bay_booking\nFOR PORTION OF stay FROM DATE '2024-08-05' TO DATE '2024-08-07'\nSET gardener_id = 2\nWHERE bay = 'Bay 1';\n\nSELECT gardener_id, starts, ends\nFROM bay_booking\nWHERE bay = 'Bay 1' AND stay OVERLAPS PERIOD (DATE '2024-08-01', DATE '2024-09-01')\nORDER BY starts",
        show: Show::Rows,
    },
];
