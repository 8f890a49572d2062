package service

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"unsafe"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/identity"
	"calmpigeon.example/internal/store"
)

// An instance keeps its last commit marks in a file in the data folder as well, so that a
// start finds out whether the database lacks any of its transactions. The file is mapped into memory: noting a
// mark costs nothing, and a process that is killed forgets nothing. A machine that loses its power
// may forget the last moments, which does no harm: then the database has more than is remembered.
//
// The file is marksSize bytes: marksMagic, the inode of the file when it was written, which tells a
// copy, the marks, and from marksAbout on its [about] as JSON, after its length.

const (
	marksFile  = "commit-marks"
	marksMagic = "CPMARKS1"
	marksSize  = 4096
	marksInode = 8
	marksFirst = 16
	marksAbout = marksFirst + 8*store.MarksKept
)

// about is whose marks a file holds.
type about struct {
	Instance uuid.UUID
	System   string
	Database int64
}

// memory keeps the marks of this instance in a file.
type memory struct{ mapped []byte }

// Keep is what [store.MarkKeeper] asks for.
func (m *memory) Keep(slot int, mark int64) {
	at := (*int64)(unsafe.Pointer(&m.mapped[marksFirst+8*slot])) // #nosec G103 -- within the page, and aligned
	atomic.StoreInt64(at, mark)
}

func (m *memory) close() { syscall.Munmap(m.mapped) }

// remembered is what the data folder remembers of a database; nil if it remembers nothing.
func remembered(ctx context.Context, db *store.Store, folder string) (*identity.Memory, error) {
	path := filepath.Join(folder, marksFile)
	kept, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what is remembered of the database: %w", err)
	}
	if len(kept) != marksSize || !bytes.HasPrefix(kept, []byte(marksMagic)) {
		return nil, fmt.Errorf("%s is damaged: move it away, and start with --quarantine if the database may have been restored", path)
	}
	var of about
	length := int(binary.LittleEndian.Uint16(kept[marksAbout:]))
	if marksAbout+2+length > marksSize {
		length = 0
	}
	if err := json.Unmarshal(kept[marksAbout+2:marksAbout+2+length], &of); err != nil {
		return nil, fmt.Errorf(
			"%s is damaged (%w): move it away, and start with --quarantine if the database may have been restored",
			path,
			err,
		)
	}
	inode, err := inodeOf(path)
	if err != nil {
		return nil, err
	}
	marks, err := db.MarksOf(ctx, of.Instance)
	if err != nil {
		return nil, err
	}
	m := &identity.Memory{System: of.System, Database: of.Database, Moved: inode != binary.LittleEndian.Uint64(kept[marksInode:])}
	for slot := range store.MarksKept {
		mark := int64(binary.LittleEndian.Uint64(kept[marksFirst+8*slot:])) // #nosec G115 -- it was written as that
		m.Behind += max(0, mark-marks[slot])
	}
	return m, nil
}

// remember lets the marks of this instance be remembered in the data folder from now on.
func remember(ctx context.Context, db *store.Store, folder string) (*memory, error) {
	live, _, err := db.Identity(ctx)
	if err != nil {
		return nil, err
	}
	of, err := json.Marshal(about{db.Instance(), live.System, live.Database})
	if err != nil {
		return nil, err
	}
	fail := func(err error) (*memory, error) { return nil, fmt.Errorf("remembering what is committed: %w", err) }
	file, err := os.CreateTemp(folder, marksFile+"-")
	if err != nil {
		return fail(err)
	}
	defer file.Close()
	page := make([]byte, marksSize)
	copy(page, marksMagic)
	inode, err := inodeOf(file.Name())
	if err != nil {
		return fail(err)
	}
	binary.LittleEndian.PutUint64(page[marksInode:], inode)
	binary.LittleEndian.PutUint16(page[marksAbout:], uint16(len(of))) // #nosec G115 -- some hundred bytes
	copy(page[marksAbout+2:], of)
	if _, err := file.Write(page); err != nil {
		return fail(err)
	}
	mapped, err := syscall.Mmap(int(file.Fd()), 0, marksSize, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	if err != nil {
		return fail(err)
	}
	m := &memory{mapped}
	db.KeepMarks(m)
	if err := errors.Join(file.Sync(), os.Rename(file.Name(), filepath.Join(folder, marksFile))); err != nil {
		return fail(err)
	}
	return m, nil
}

func inodeOf(path string) (uint64, error) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return info.Sys().(*syscall.Stat_t).Ino, nil
}
