//! Two examples of each command, which its help shows.

pub(crate) const RUN: &str = "\
Examples:
  garden-gate run --data demo/data -e \"SELECT sun, COUNT(*) FROM bed GROUP BY sun\"
  garden-gate run --data demo/data -e \"SELECT * FROM gardener\" --output csv";

pub(crate) const PLAN: &str = "\
Examples:
  garden-gate plan --data demo/data -e \"SELECT name FROM bed WHERE sun <> 'shade'\" --measure
  garden-gate plan --data demo/data -e \"SELECT * FROM task JOIN bed USING (bed_id)\" --considered";

pub(crate) const STEPS: &str = "\
Examples:
  garden-gate steps --data demo/data -e \"WITH w AS (SELECT ph FROM bed) SELECT MAX(ph) FROM w\"
  garden-gate steps --data demo/data -e \"SELECT sun FROM bed GROUP BY sun\" --clauses";

pub(crate) const COMPARE: &str = "\
Examples:
  garden-gate compare --data demo/data -e \"SELECT COUNT(*) FROM bed\" -e \"VALUES (48)\"
  garden-gate compare --data demo/data -e \"TABLE bed\" -e \"SELECT * FROM bed b\" --same-plan";

pub(crate) const SWEEP: &str = "\
Examples:
  garden-gate sweep --data demo/data --over bed=1..9 -e \"SELECT * FROM task WHERE bed_id = :bed\"
  garden-gate sweep --data demo/data --over ph=4,6 -e \"SELECT name FROM bed WHERE ph > :ph\"";

pub(crate) const CHECK: &str = "\
Examples:
  garden-gate check demo/checks
  garden-gate check demo/checks/garden.check.toml --output json";

pub(crate) const DESCRIBE: &str = "\
Examples:
  garden-gate describe --data demo/data
  garden-gate describe bed --data demo/data";

pub(crate) const VERIFY: &str = "\
Examples:
  garden-gate verify --db garden.db
  garden-gate verify --db garden.db --wait 5";

pub(crate) const COMPACT: &str = "\
Examples:
  garden-gate compact --db garden.db
  garden-gate compact --db garden.db --wait 5";

pub(crate) const SHELL: &str = "\
Examples:
  garden-gate shell --data demo/data
  garden-gate shell --db garden.db --set time_limit=0";

pub(crate) const LANGUAGE_SERVER: &str = "\
Examples:
  garden-gate language-server --data demo/data
  garden-gate language-server --db garden.db";

pub(crate) const FORMAT: &str = "\
Examples:
  echo \"select name from bed where sun='shade'\" | garden-gate format
  garden-gate format --width 60 demo/time.sql";

pub(crate) const COMPLETIONS: &str = "\
Examples:
  garden-gate completions bash > ~/.local/share/bash-completion/completions/garden-gate
  garden-gate completions fish > ~/.config/fish/completions/garden-gate.fish";

pub(crate) const MANUAL: &str = "\
Examples:
  garden-gate manual --to docs/man
  garden-gate manual --to ~/.local/share/man/man1";

pub(crate) const DEMO: &str = "\
Examples:
  garden-gate demo
  garden-gate demo shell";
