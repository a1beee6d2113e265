package scancache

import "database/sql"

// PutWritten remembers the texts that were written to a target, by their paths on it.
func (s *Store) PutWritten(target string, texts map[string]string) error {
	if len(texts) == 0 {
		return nil
	}
	return s.do(func(db *sql.DB) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		for path, text := range texts {
			if _, err := tx.Exec("INSERT INTO written (target, path, text) VALUES (?, ?, ?) ON CONFLICT (target, "+
				"path) DO UPDATE SET text = excluded.text", target, path, text); err != nil {
				return err
			}
		}
		return tx.Commit()
	})
}

// Written are the texts that were last written to a target, by their paths on it.
func (s *Store) Written(target string) (texts map[string]string, err error) {
	texts = map[string]string{}
	err = s.do(func(db *sql.DB) error {
		rows, err := db.Query("SELECT path, text FROM written WHERE target = ?", target)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var path, text string
			if err := rows.Scan(&path, &text); err != nil {
				return err
			}
			texts[path] = text
		}
		return rows.Err()
	})
	return texts, err
}
