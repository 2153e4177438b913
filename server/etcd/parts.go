package etcd

import "context"

// writeParts writes the lines of a batch that is too large for one transaction. Nothing refers to
// them before the batch itself is there. If it never is, they are swept.
func (l *log) writeParts(ctx context.Context, b *batch) (err error) {
	b.parts, err = l.g.putParts(ctx, l.in().parts+b.id+"/", b.lines)
	return err
}

func (g *group) putParts(ctx context.Context, under string, data []byte) (n int, err error) {
	for ; len(data) > 0; n++ {
		size := min(len(data), partSize)
		if err := g.put(ctx, part(under, n), string(data[:size])); err != nil {
			return n, err
		}
		data = data[size:]
	}
	return n, nil
}
