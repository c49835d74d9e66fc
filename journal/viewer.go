package journal

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/url"

	"modernc.org/sqlite"
)

// A viewer sees what ran, or was to run, as one account. On each of its
// connections, views of what it may see stand in the place of the tables
// (SQLite resolves a name in the schema temp first), so that no query, however
// it is written, can reach more.

// viewerOption names the account in the address of a connection.
const viewerOption = "viewer"

// viewerViews are the tables as an account sees them; %s is its name.
const viewerViews = `
	CREATE TEMP VIEW runs      AS SELECT * FROM main.runs      WHERE account = %[1]s;
	CREATE TEMP VIEW decisions AS SELECT * FROM main.decisions WHERE account = %[1]s;
	CREATE TEMP VIEW facts     AS SELECT * FROM main.facts     WHERE name IN ('boot_id', 'booted');
	CREATE TEMP VIEW events    AS SELECT id, at, kind, CASE kind WHEN 'asleep' THEN body ELSE '{}' END AS body
		FROM main.events WHERE kind IN ('begin', 'boot', 'asleep', 'rest');
	CREATE TEMP VIEW texts     AS SELECT * FROM main.texts     WHERE 0;`

func init() {
	sqlite.RegisterConnectionHook(func(conn sqlite.ExecQuerierContext, address string) error {
		u, err := url.Parse(address)
		if err != nil {
			return err
		}
		account, ok := u.Query()[viewerOption]
		if !ok {
			return nil
		}
		name := fmt.Sprintf("CAST(x'%s' AS TEXT)", hex.EncodeToString([]byte(account[0])))
		_, err = conn.ExecContext(context.Background(), fmt.Sprintf(viewerViews, name), nil)
		return err
	})
}

// OpenViewer opens a journal for reading what concerns one account. Its error
// is [ErrNone] where there is no journal.
func OpenViewer(path, account string) (*Journal, error) {
	return openReader(path, "&"+viewerOption+"="+url.QueryEscape(account))
}
