package history

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/bits"
	"slices"

	"github.com/klauspost/compress/zstd"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
)

// What is kept of an audit is its snapshot and its result as JSON, a line each, packed by Zstandard (RFC 8878). The first is whole; those
// after it are packed with it as their dictionary, so that what did not change, and every text and origin that repeats, is kept once.

// together is how many are told by one that is whole.
const together = 24

// maxPayload bounds what is unpacked, in bytes.
const maxPayload = 512 << 20

// maxWindow bounds how far back a text may be found again (RFC 8878 §3.1.1.1.2), in bytes.
const maxWindow = 64 << 20

// window reaches over all of a payload and its dictionary.
func window(payload, base []byte) int {
	return min(max(1<<bits.Len(uint(len(payload)+len(base))), zstd.MinWindowSize), maxWindow)
}

// dictionary is the number of the dictionary; there is never more than one.
const dictionary = 1

func pack(payload, base []byte) ([]byte, error) {
	options := []zstd.EOption{zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithWindowSize(window(payload, base)), zstd.WithEncoderCRC(true), zstd.WithEncoderConcurrency(1)}
	if base != nil {
		options = append(options, zstd.WithEncoderDictRaw(dictionary, base))
	}
	encoder, err := zstd.NewWriter(nil, options...)
	if err != nil {
		return nil, err
	}
	defer encoder.Close()
	return encoder.EncodeAll(payload, nil), nil
}

func unpack(packed, base []byte) ([]byte, error) {
	options := []zstd.DOption{zstd.WithDecoderMaxMemory(maxPayload), zstd.WithDecoderMaxWindow(2 * maxWindow), zstd.WithDecoderConcurrency(1)}
	if base != nil {
		options = append(options, zstd.WithDecoderDictRaw(dictionary, base))
	}
	decoder, err := zstd.NewReader(nil, options...)
	if err != nil {
		return nil, err
	}
	defer decoder.Close()
	return decoder.DecodeAll(packed, nil)
}

// querier is what a transaction and a database have in common.
type querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// payload is what is kept of an audit, unpacked.
func payload(ctx context.Context, q querier, audit int64) ([]byte, error) {
	var base sql.NullInt64
	var data []byte
	switch err := q.QueryRowContext(ctx, "SELECT base, data FROM payload WHERE audit = ?", audit).Scan(&base, &data); {
	case errors.Is(err, sql.ErrNoRows):
		return nil, fmt.Errorf("what was seen in audit %d is not kept any more", audit)
	case err != nil:
		return nil, err
	}
	var from []byte
	if base.Valid {
		if base.Int64 == audit {
			return nil, fmt.Errorf("what is kept of audit %d is damaged: it is told by itself", audit)
		}
		var whole sql.NullInt64
		var packed []byte
		err := q.QueryRowContext(ctx, "SELECT base, data FROM payload WHERE audit = ?", base.Int64).Scan(&whole, &packed)
		if err == nil && whole.Valid {
			err = errors.New("it is told by one that is not whole")
		}
		if err == nil {
			from, err = unpack(packed, nil)
		}
		if err != nil {
			return nil, fmt.Errorf("what is kept of audit %d is damaged: %w", audit, err)
		}
	}
	unpacked, err := unpack(data, from)
	if err != nil {
		return nil, fmt.Errorf("what is kept of audit %d is damaged: %w", audit, err)
	}
	return unpacked, nil
}

// Shown is a snapshot as it may be kept, without secrets (addresses hold some), and as JSON; itself where it has none.
func Shown(snapshot *facts.Snapshot) (*facts.Snapshot, []byte, error) {
	seen, err := json.Marshal(snapshot)
	if err != nil {
		return nil, nil, err
	}
	text := string(seen)
	shown := secrets.Shown(text)
	if shown == text {
		return snapshot, seen, nil
	}
	without := &facts.Snapshot{}
	err = json.Unmarshal([]byte(shown), without)
	return without, []byte(shown), err
}

// wrap puts a snapshot as JSON and a result into one payload.
func wrap(seen, result []byte) ([]byte, error) {
	if bytes.IndexByte(result, '\n') >= 0 {
		var line bytes.Buffer
		if err := json.Compact(&line, result); err != nil {
			return nil, err
		}
		result = line.Bytes()
	}
	return slices.Concat(seen, []byte("\n"), result), nil
}

// A Kept is an audit as it was kept.
type Kept struct {
	Audit
	Snapshot *facts.Snapshot
	Verdicts *compare.Verdicts
	Result   json.RawMessage // as audit --format json writes it
	Seen     json.RawMessage // the snapshot
}

// unwrap takes a payload apart.
func unwrap(payload []byte, of Audit) (*Kept, error) {
	seen, result, whole := bytes.Cut(payload, []byte("\n"))
	if !whole {
		return nil, fmt.Errorf("what is kept of audit %d is damaged: it ends too early", of.ID)
	}
	k := &Kept{Audit: of, Result: result, Seen: seen, Snapshot: &facts.Snapshot{}}
	failed := make(chan error, 1)
	go func() {
		var err error
		k.Verdicts, err = compare.ReadResult(result)
		failed <- err
	}()
	err := json.Unmarshal(seen, k.Snapshot)
	if err := errors.Join(err, <-failed); err != nil {
		return nil, fmt.Errorf("what is kept of audit %d is not understood: %w", of.ID, err)
	}
	return k, nil
}

// Look is the audit as something to compare.
func (k *Kept) Look() compare.Look {
	return compare.Look{Called: fmt.Sprintf("audit %d", k.ID), Snapshot: k.Snapshot, Verdicts: k.Verdicts}
}

// save keeps a payload: by one that is whole, as long as that tells most of it.
func save(ctx context.Context, tx *sql.Tx, site, audit int64, unpacked []byte) error {
	var whole, told int64
	err := tx.QueryRowContext(ctx, "SELECT audit, (SELECT count(*) FROM payload AS p WHERE p.base = w.audit) FROM payload AS w WHERE site = ? AND base IS NULL ORDER BY audit DESC LIMIT 1", site).Scan(&whole, &told)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	var packed []byte
	base := sql.NullInt64{}
	if err == nil && told < together {
		from, err := payload(ctx, tx, whole)
		if err == nil { // else it is damaged, and this one begins anew
			if packed, err = pack(unpacked, from); err != nil {
				return err
			}
			base = sql.NullInt64{Int64: whole, Valid: len(packed)*4 < len(unpacked)}
		}
	}
	if !base.Valid {
		if packed, err = pack(unpacked, nil); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO payload (audit, site, base, size, data) VALUES (?, ?, ?, ?, ?)", audit, site, base, len(unpacked), packed)
	return err
}
