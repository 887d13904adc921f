package config

import (
	"fmt"
	"strings"
)

// Setting is one key of the configuration file.
type Setting struct {
	Key string
	// Default is its value where the file says nothing, as it is written there; empty if there is none.
	Default string
	Meaning string
}

// Section is one table of the configuration file.
type Section struct {
	// Table is its name, such as "origin.tls", and empty for what stands above all tables.
	Table    string
	About    string
	Settings []Setting
}

// Sections are all that a configuration file may say. Tests hold them against what is decoded and against the defaults.
var Sections = []Section{
	{"", "", []Setting{
		{"rules", "", "the [rules file](rules.md). It is created with the first rule if it does not exist. Without it, rules end with the process"},
		{"follow_rules", "false", "whether changes made to the rules file by hand are applied at once, if the file has no errors and has not changed for a second. A file without rules is applied only after confirmation. With `false`, the terminal and `jollylarder rules apply --edited` offer the change"},
		{"state", "", "a directory for the history of the rules, drafts, what the larder chose within advised rules, and statistics per pattern and minute. It is created if it does not exist, readable by its owner only. Without it they end with the process"},
		{"store_values", "false", "whether the inputs for rules with `warm_up` may be stored in `state`: they contain the literals and parameters of statements"},
		{"control", "", "the Unix socket of the [control API](api.md), for its owner only"},
		{"memory", `"256MiB"`, "the limit for cached results, with everything that is needed to find and drop them"},
		{"overhead", `"256MiB"`, "the limit for everything beside results: patterns, texts, prepared statements, and the samples for forecasts ([security.md](security.md#memory))"},
		{"max_result_size", `"1MiB"`, "the largest result that is cached"},
		{"drain_timeout", `"30s"`, "how long busy clients may go on after SIGTERM"},
		{"handover_timeout", `"10m"`, "how long busy clients may go on in a larder from which another [has taken over](operations.md#upgrade). Until they have finished, nothing is cached"},
		{"keep_warm", "false", "whether a larder that takes over from another fetches again what clients asked for most, up to 1,000 results. `[origin.fetch]` names the account for that. Unlike `warm_up` in a rule, it stores nothing: the two processes tell each other"},
		{"show_values", "false", "whether users of the control socket can see the literals and parameters of live statements. They see them only when they ask for it; values are never written to a file"},
		{"metrics", "", "the address of the Prometheus metrics, such as `\"127.0.0.1:7434\"` ([metrics.md](metrics.md)), and of `/healthz` and `/readyz` ([operations.md](operations.md#health)). There is no login: make it reachable by your monitoring only"},
		{"profile", "", "the address of Go's profiler, such as `\"127.0.0.1:6060\"` ([performance.md](performance.md)). It reveals much about the process: use the loopback"},
	}},
	{"control_tcp", "The control API over TCP, beside its socket. It always needs TLS and a token, so all four keys are needed.", []Setting{
		{"listen", "", "`\"host:port\"`"},
		{"certificate", "", "a PEM file"},
		{"key", "", "a PEM file"},
		{"token_file", "", "a file that contains only the token, of at least 20 characters, such as `openssl rand -hex 32` prints. The token allows everything that the terminal can do"},
	}},
	{"log", "", []Setting{
		{"level", `"info"`, "`\"debug\"`, `\"info\"`, `\"warn\"` or `\"error\"`"},
		{"format", `"text"`, "`\"text\"` or `\"json\"`"},
	}},
	{"origin", "One table, written `[[origin]]`, for each database server, with listeners of its own. Results of one origin are never mixed with those of another; rules, patterns and memory are shared.", []Setting{
		{"name", "", "up to 40 letters, digits, `_` or `-`; needed with several origins"},
		{"protocol", `"postgresql"`, "the server's protocol: `\"postgresql\"`, or `\"mysql\"` for MariaDB and MySQL, where results are cached if `[origin.catalog]` names an account"},
		{"address", "", "the server's address"},
		{"listen", "", "a list of addresses for clients"},
		{"max_connections", "0", "how many clients may be connected at once; `0` for no limit"},
		{"startup_timeout", `"30s"`, "the time from accepting a client to the end of its first message, including TLS"},
		{"connect_timeout", `"30s"`, "the time to connect to the server, including TLS"},
		{"idle_timeout", `"0s"`, "a client that is in no transaction and sends nothing for this time is disconnected; `\"0s\"` for never"},
		{"lost_client_timeout", `"1m"`, "how long the larder waits for the reply to a write whose client has disconnected"},
		{"proxy_header", "false", "whether the server is told where each client comes from, by a header of the PROXY protocol, version 2. For `protocol = \"mysql\"`: list the larder in the server's `proxy_protocol_networks`"},
		{"begin_delay", `"50ms"`, "how long a BEGIN may be delayed while nothing in its transaction needs the server; `\"0s\"` sends each at once. See [Transactions](freshness.md#transactions)"},
		{"max_message_size", `"1GiB"`, "the longest message accepted from a client"},
		{"unchallenged_logins", `"same-host"`, "see [Who is let in](#who-is-let-in)"},
	}},
	{"origin.tls", "How the larder connects to the server.", []Setting{
		{"mode", `"disable"`, "`\"disable\"`; `\"require\"`: encrypted, without checking the certificate; `\"verify-ca\"`: the certificate is signed by a known authority; `\"verify-full\"`: and has the host's name"},
		{"ca", "", "a PEM file of authorities; without it, those of the system"},
		{"certificate", "", "a PEM file, presented to a server that asks for a certificate"},
		{"key", "", "its key"},
		{"host", "", "the name that the server's certificate must have; without it, the host in `address`"},
	}},
	{"origin.catalog", "The account with which the larder reads the catalog, which shows what is behind views, functions, triggers and so on. Without it the larder reads the catalog over a client's connection, right after its login; every user may read what it asks for. With `protocol = \"mysql\"` the account needs SELECT, SHOW VIEW and TRIGGER on all databases, and without it the larder knows names alone. Without `[origin.fetch]` the terminal asks for plans of statements by it, which needs the right to read their tables.", []Setting{
		{"user", "", "an account that may connect to every database that clients use; it needs no other privilege, but for plans"},
		{"password_file", "", "a file that contains only its password"},
	}},
	{"origin.fetch", "The account with which the larder fetches results ahead, for rules with `refetch` or `warm_up`. Without it none are fetched. The terminal asks for plans of statements by it.", []Setting{
		{"user", "", "an account that clients use: what is fetched as one user is for that user, unless a rule has `across_users`"},
		{"password_file", "", "a file that contains only its password"},
	}},
	{"origin.feed", "The change feed, which shows direct writes ([freshness.md](freshness.md#direct-writes)). `jollylarder feed setup` prepares a database for it and prints this table. Without a user there is no feed.", []Setting{
		{"user", "", "an account that may replicate, and with PostgreSQL connect to each of `databases`"},
		{"password_file", "", "a file that contains only its password"},
		{"databases", "", "a list of the databases to follow. With `protocol = \"mysql\"` the feed follows the whole server, and neither this key nor one of those below has a use"},
		{"mode", `"stream"`, "`\"stream\"`: the replication stream, and counters for what it does not contain; `\"poll\"`: counters only. Where there is no stream, counters are used, and the terminal says why"},
		{"slot", "", "the replication slot; without it `jolly_larder_` and the database's name; not for several databases"},
		{"publication", `"jolly_larder"`, "the publication"},
		{"max_slot_size", `"1GiB"`, "how much of its log the server may retain for the slot: there is a warning at half of it, and beyond it the slot is dropped"},
		{"poll_interval", `"1s"`, "how often counters are read"},
	}},
	{"origin.clients", "How clients connect to the larder.", []Setting{
		{"tls", `"off"`, "`\"off\"`; `\"offered\"`: to clients that ask for it; `\"required\"`: a client without TLS is refused, except over a Unix socket"},
		{"certificate", "", "a PEM file"},
		{"key", "", "a PEM file"},
		{"min_tls_version", `"1.2"`, "`\"1.2\"` or `\"1.3\"`"},
		{"ca", "", "a PEM file of authorities: every client over TLS must present a certificate that one of them signed"},
	}},
}

// Reference writes Sections as Markdown.
func Reference() string {
	var b strings.Builder
	for _, s := range Sections {
		if s.Table != "" {
			fmt.Fprintf(&b, "### `[%s]`\n\n", map[bool]string{true: "[" + s.Table + "]", false: s.Table}[s.Table == "origin"])
		}
		if s.About != "" {
			b.WriteString(s.About + "\n\n")
		}
		b.WriteString("| key | default | meaning |\n|---|---|---|\n")
		for _, x := range s.Settings {
			value := "none"
			if x.Default != "" {
				value = "`" + x.Default + "`"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", x.Key, value, x.Meaning)
		}
		b.WriteString("\n")
	}
	return b.String()
}
