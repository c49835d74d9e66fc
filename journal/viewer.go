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
	CREATE TEMP VIEW names     AS SELECT * FROM main.names     WHERE EXISTS (SELECT 1 FROM main.runs WHERE account = %[1]s AND gate = key)
		OR EXISTS (SELECT 1 FROM main.decisions WHERE gate = key AND account = %[1]s);
	CREATE TEMP VIEW presence  AS SELECT * FROM main.presence;
	CREATE TEMP VIEW state_machine AS SELECT 1 AS one, version,
		json_object('boot_id', json_extract(body, '$.boot_id'), 'booted', json_extract(body, '$.booted')) AS body FROM main.state_machine;
	CREATE TEMP VIEW events      AS SELECT event AS id, min(at) AS at, '' AS kind, '{}' AS body FROM main.decisions WHERE account = %[1]s GROUP BY event;
	CREATE TEMP VIEW texts       AS SELECT * FROM main.texts       WHERE 0;
	CREATE TEMP VIEW checkpoints AS SELECT * FROM main.checkpoints WHERE 0;
	CREATE TEMP VIEW state_gates AS SELECT * FROM main.state_gates WHERE 0;
	CREATE TEMP VIEW state_files AS SELECT * FROM main.state_files WHERE 0;`

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
