package ledger

import (
	"slices"
	"sort"
	"time"

	"github.com/small-pantry/pantry/internal/scan"
	"github.com/small-pantry/pantry/value"
)

// How many receipts are kept. The oldest go first.
const (
	receiptAge   = 7 * 24 * time.Hour
	receiptsEach = 1000    // per instance
	receiptBytes = 4 << 20 // in total
)

// A Receipt records a request that made a commit, so that its repetition counts once. It is found
// by Token, Instance and Key.
type Receipt struct {
	Token    string // whose request; empty without tokens
	Instance string // the client
	Key      string
	Hash     string // distinguishes requests with the same key
	Status   int64  // the status that was answered
	Changed  string // for each edit 1 if it changed something, else 0
	Taken    []byte // JSON: a list of what each edit took, null for nothing; nil if none took anything
	// Replaced holds for each edit the version that a put replaced without having seen it, or 0; nil if
	// none did.
	Replaced []int64

	Version int64 // of the commit
	At      int64 // its time

	gone bool // no longer kept
}

type receiptID struct{ token, instance, key string }

func (r *Receipt) id() receiptID { return receiptID{r.Token, r.Instance, r.Key} }

// who groups receipts that are counted together.
func (r *Receipt) who() receiptID { return receiptID{r.Token, r.Instance, ""} }

func (r *Receipt) size() int64 {
	const overhead = 200
	return int64(overhead + len(r.Token) + len(r.Instance) + len(r.Key) + len(r.Hash) + len(r.Changed) + len(r.Taken) + 8*len(r.Replaced))
}

// fields returns the members of a receipt, with version and at if its line is not that of its
// commit.
func (r *Receipt) fields(version, at *int64) []scan.Field {
	replaced := scan.List(&r.Replaced, (*scan.Reader).Int, func(n int64, dst []byte) []byte { return appendInt(dst, n) })
	if r.Replaced == nil {
		replaced.Write = nil
	}
	return []scan.Field{
		scan.Always("key", &r.Key), scan.Always("hash", &r.Hash), scan.Maybe("instance", &r.Instance), scan.Maybe("token", &r.Token),
		scan.Always("status", &r.Status), scan.Always("changed", &r.Changed), scan.Maybe("taken", &r.Taken), scan.Maybe("replaced", replaced),
		scan.Maybe("version", version), scan.Maybe("at", at),
	}
}

func (r *Receipt) appendJSON(dst []byte, moved bool) []byte {
	version, at := r.Version, r.At
	if !moved {
		version, at = 0, 0
	}
	return scan.AppendFields(dst, r.fields(&version, &at)...)
}

func readReceipt(r *scan.Reader) (*Receipt, error) {
	one := &Receipt{}
	err := r.Fields(value.MaxDepth, one.fields(&one.Version, &one.At)...)
	if one.Taken != nil {
		one.Taken = append([]byte{}, one.Taken...)
	}
	return one, err
}

// receipts holds the kept receipts. Guarded by Ledger.mu.
type receipts struct {
	all   map[receiptID]*Receipt
	order []*Receipt // by version; some are gone
	gone  int        // the number of receipts
	of    map[receiptID][]*Receipt
	bytes int64
	// dropped is the newest version whose receipt was dropped, for its age or for room.
	dropped int64
}

// reset removes all, for a file whose header has the version up to which receipts were dropped.
func (s *receipts) reset(dropped int64) { *s = receipts{dropped: dropped} }

func (s *receipts) add(r *Receipt, now time.Time) {
	if s.all == nil {
		s.all, s.of = map[receiptID]*Receipt{}, map[receiptID][]*Receipt{}
	}
	if old := s.all[r.id()]; old != nil {
		s.drop(old)
	}
	who := r.who()
	s.all[r.id()], s.order, s.of[who] = r, append(s.order, r), append(s.of[who], r)
	if s.bytes += r.size(); len(s.of[who]) > receiptsEach {
		s.drop(s.of[who][0]) // see from
	}
	s.evict(now)
}

func (s *receipts) drop(r *Receipt) {
	r.gone = true
	s.gone++
	s.bytes -= r.size()
	delete(s.all, r.id())
	who := r.who()
	if i := slices.Index(s.of[who], r); i >= 0 {
		s.of[who] = slices.Delete(s.of[who], i, i+1)
	}
	if len(s.of[who]) == 0 {
		delete(s.of, who)
	}
	if s.gone > 1000 && s.gone > len(s.order)/2 {
		s.order = slices.DeleteFunc(s.order, func(r *Receipt) bool { return r.gone })
		s.gone = 0
	}
}

// evict drops receipts that are too old or too many.
func (s *receipts) evict(now time.Time) {
	since := now.Add(-receiptAge).UnixMilli()
	for len(s.order) > 0 {
		switch r := s.order[0]; {
		case r.gone:
			s.order = s.order[1:]
			s.gone--
		case r.At < since || s.bytes > receiptBytes:
			s.dropped = max(s.dropped, r.Version)
			s.drop(r)
		default:
			return
		}
	}
}

// from returns the version up to which receipts of a client may have been dropped. A client with
// the maximum number may have had more.
func (s *receipts) from(who receiptID) int64 {
	if own := s.of[who]; len(own) >= receiptsEach {
		return max(s.dropped, own[0].Version-1)
	}
	return s.dropped
}

// between returns the kept receipts of the commits after a version, up to another.
func (s *receipts) between(after, upTo int64) (out []*Receipt) {
	from := sort.Search(len(s.order), func(i int) bool { return s.order[i].Version > after })
	for _, r := range s.order[from:] {
		if r.Version > upTo {
			break
		}
		if !r.gone {
			out = append(out, r)
		}
	}
	return out
}

// keptReceipts returns the receipts of the commits after a version, up to another, and the version
// up to which earlier ones were dropped. With none, all are dropped.
func (s *state) keptReceipts(after, upTo int64, none bool, now time.Time) (kept []*Receipt, dropped int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.receipts.evict(now)
	if none {
		s.receipts.reset(s.version.Load())
	}
	return s.receipts.between(after, upTo), s.receipts.dropped
}

// forgetTaken drops the receipts with taken items.
func (s *state) forgetTaken() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range slices.Clone(s.receipts.order) {
		if !r.gone && r.Taken != nil {
			s.receipts.dropped = max(s.receipts.dropped, r.Version)
			s.receipts.drop(r)
		}
	}
}

// Receipt returns the receipt of a request, or nil. upTo is the version up to which receipts of the
// client may have been dropped.
func (tx *Tx) Receipt(token, instance, key string) (r *Receipt, upTo int64) {
	id := receiptID{token, instance, key}
	if r := tx.l.scratch.receipts[id]; r != nil { // of an earlier commit of this group
		return r, 0
	}
	l := tx.l
	l.mu.Lock()
	defer l.mu.Unlock()
	l.receipts.evict(l.opts.Now())
	return l.receipts.all[id], l.receipts.from(receiptID{token, instance, ""})
}

// Keep puts a receipt in the commit's line, if the commit changes something.
func (tx *Tx) Keep(r Receipt) { tx.receipt = &r }
