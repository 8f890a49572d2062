package sheet

import (
	"archive/zip"
	"bufio"
	"encoding/xml"
	"fmt"
	"io"
	"os"

	"calmpigeon.example/internal/core/fault"
)

// textsOfBook is how many shared strings a workbook may have: one for each of eight cells of
// every row.
const textsOfBook = 8 << 20

// Blocks of the file of shared strings are held while they are read.
const (
	blockSize  = 16 << 10 // octets
	blocksHeld = 128
)

// sharedTexts are the shared strings of a workbook (ISO/IEC 29500-1, 18.4). They lie in a file, one
// after the other; in memory is where each of them ends.
type sharedTexts struct {
	file *os.File
	ends []uint32

	blocks [blocksHeld][]byte
	held   [blocksHeld]int64 // which block it is, 1 first; 0: none
	one    []byte
}

// read reads them.
func (s *sharedTexts) read(part *zip.File) error {
	packed, err := unpack(part, textsMost)
	if err != nil {
		return err
	}
	defer packed.Close()
	in, decoder := pieces(packed)
	out := bufio.NewWriterSize(s.file, 64<<10)
	end, size := uint32(0), 0
	var one cellText
	for {
		token, err := decoder.RawToken()
		in.raw = in.raw[:0]
		if err == io.EOF {
			break
		}
		if err != nil {
			return fault.Because(ErrList, "the texts of the workbook: %w", err)
		}
		one.add(token)
		if t, ends := token.(xml.EndElement); !ends || t.Name.Local != "si" {
			continue
		}
		if len(s.ends) == textsOfBook {
			return fault.Because(ErrList, "the workbook has more than %d texts", textsOfBook)
		}
		text := unescaped(string(one.value))
		one.value = one.value[:0]
		if size += len(text); size > textsMost {
			return packed.tooLarge()
		}
		end += uint32(len(text)) // #nosec G115 -- bounded above
		s.ends = append(s.ends, end)
		if _, err := out.WriteString(text); err != nil {
			return fmt.Errorf("keeping the texts of a workbook: %w", err)
		}
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("keeping the texts of a workbook: %w", err)
	}
	return nil
}

// text is one of them, 0 first.
func (s *sharedTexts) text(at int) (string, error) {
	if at < 0 || at >= len(s.ends) {
		return "", fmt.Errorf("the workbook has no text %d", at)
	}
	from, until := int64(0), int64(s.ends[at])
	if at > 0 {
		from = int64(s.ends[at-1])
	}
	s.one = s.one[:0]
	for from < until {
		block, err := s.block(from / blockSize)
		if err != nil {
			return "", err
		}
		begin := from % blockSize
		n := min(int64(len(block))-begin, until-from)
		if n <= 0 {
			return "", io.ErrUnexpectedEOF
		}
		s.one = append(s.one, block[begin:begin+n]...)
		from += n
	}
	return string(s.one), nil
}

// block is a block of the file.
func (s *sharedTexts) block(n int64) ([]byte, error) {
	slot := n % blocksHeld
	if s.held[slot] == n+1 {
		return s.blocks[slot], nil
	}
	if s.blocks[slot] == nil {
		s.blocks[slot] = make([]byte, blockSize)
	}
	s.held[slot] = 0
	read, err := s.file.ReadAt(s.blocks[slot][:blockSize], n*blockSize)
	if err != nil && err != io.EOF {
		return nil, fmt.Errorf("reading the texts of a workbook: %w", err)
	}
	s.held[slot], s.blocks[slot] = n+1, s.blocks[slot][:read]
	return s.blocks[slot], nil
}
