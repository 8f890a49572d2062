package store

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// filePiece is how large the pieces are in which a file is kept, in octets.
const filePiece = 1 << 20

// PutFile keeps the file that a batch was made of, in the place of one that is there.
func (s *Store) PutFile(ctx context.Context, id uuid.UUID, file io.ReadSeeker) error {
	err := s.Transact(ctx, func(s *Store) error {
		if err := s.DropFile(ctx, id); err != nil {
			return err
		}
		if _, err := file.Seek(0, io.SeekStart); err != nil { // the transaction may run again
			return err
		}
		piece := make([]byte, filePiece)
		for n := 0; ; n++ {
			size, err := io.ReadFull(file, piece)
			if size > 0 {
				var b pgx.Batch
				b.Queue("INSERT INTO batch_files (batch_id, n, body) VALUES ($1, $2, $3)", id, n, piece[:size])
				if err := s.send(ctx, &b); err != nil {
					return err
				}
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
	if err != nil {
		return fmt.Errorf("keeping the file of a batch: %w", err)
	}
	return nil
}

// DropFile forgets it.
func (s *Store) DropFile(ctx context.Context, id uuid.UUID) error {
	return s.gorm(ctx).Exec("DELETE FROM batch_files WHERE batch_id = ?", id).Error
}

// CopyFile writes the file that a batch was made of, and returns its size: 0 if none is kept.
func (s *Store) CopyFile(ctx context.Context, id uuid.UUID, to io.Writer) (size int64, err error) {
	for n := 0; ; n++ {
		pieces, err := query(ctx, s.reading(), func(rows pgx.Rows) (body []byte, err error) {
			err = rows.Scan(&body)
			return body, err
		}, "SELECT body FROM batch_files WHERE batch_id = $1 AND n = $2", id, n)
		if err != nil || len(pieces) == 0 {
			return size, err
		}
		wrote, err := to.Write(pieces[0])
		if size += int64(wrote); err != nil {
			return size, err
		}
	}
}
