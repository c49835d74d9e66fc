package journal

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
)

// What is recorded of a gate is kept under a key, which never changes: the first name
// that the gate had here. The table of names says what the gate of a key is called
// now, where that is another name; so a rename is one row, however much was recorded.
// A gate that is made under a name whose key another one took along gets a new key,
// which is no name.

// nameOf is, in a query, the present name of the gate whose key is in a column.
func nameOf(column string) string {
	return "coalesce((SELECT name FROM names WHERE key = " + column + "), " + column + ")"
}

// keysOf returns the keys of the gates that are called so now. There are several
// where a gate took the name of one that was gone.
func (j *Journal) keysOf(gate string) ([]string, error) {
	return collect(j, "SELECT key FROM names WHERE name = ?1 UNION ALL SELECT ?1 WHERE NOT EXISTS (SELECT 1 FROM names WHERE key = ?1)",
		func(rows *sql.Rows) (key string, err error) { return key, rows.Scan(&key) }, gate)
}

// ofGate returns the condition of a query for what was recorded of a gate: with one
// key, its rows are in the order of the index.
func (j *Journal) ofGate(gate string) (condition string, arg any, err error) {
	keys, err := j.keysOf(gate)
	if err != nil {
		return "", nil, err
	}
	if len(keys) == 1 {
		return "gate = ?", keys[0], nil
	}
	list, err := json.Marshal(append([]string{}, keys...))
	return "gate IN (SELECT value FROM json_each(?))", string(list), err
}

// names is what the writer knows of keys and names.
type names struct {
	keys  map[string]string // of the gates that are called otherwise than their keys
	taken map[string]bool   // keys in the table
}

// readNames reads the table of names.
func readNames(tx *sql.Tx) (*names, error) {
	n := &names{map[string]string{}, map[string]bool{}}
	rows, err := tx.Query("SELECT key, name FROM names ORDER BY rowid")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var key, name string
		if err := rows.Scan(&key, &name); err != nil {
			return nil, err
		}
		n.keys[name], n.taken[key] = key, true
	}
	return n, rows.Err()
}

func (n *names) clone() *names { return &names{maps.Clone(n.keys), maps.Clone(n.taken)} }

// key returns the key under which is recorded what an event brings for a gate.
func (w *writer) key(event int64, gate string) string {
	if key, ok := w.names.keys[gate]; ok {
		return key
	}
	if !w.names.taken[gate] {
		return gate
	}
	key := fmt.Sprintf("%s/%d", gate, event)
	w.exec("INSERT INTO names (key, name) VALUES (?, ?)", key, gate)
	w.changeNames()
	w.names.keys[gate], w.names.taken[key] = key, true
	return key
}

// rename gives what was recorded of a gate to another name.
func (w *writer) rename(from, to string) {
	w.changeNames()
	key, ok := w.names.keys[from]
	if w.exec("UPDATE names SET name = ?2 WHERE name = ?1", from, to); !w.names.taken[from] {
		w.exec("INSERT INTO names (key, name) VALUES (?, ?)", from, to)
		if w.names.taken[from] = true; !ok {
			key, ok = from, true
		}
	}
	if delete(w.names.keys, from); ok {
		w.names.keys[to] = key
	}
	w.exec("UPDATE state_files SET gate = ?2 WHERE gate = ?1", from, to)
}

// changeNames makes what the writer knows its own, so that nothing has changed where
// nothing is committed.
func (w *writer) changeNames() {
	if !w.ownNames {
		w.names, w.ownNames = w.names.clone(), true
	}
}
