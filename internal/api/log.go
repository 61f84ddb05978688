package api

import (
	"encoding/binary"
	"math"
	"net/http"
	"strings"

	"filippo.io/torchwood"
	"github.com/gin-gonic/gin"
	"golang.org/x/mod/sumdb/tlog"

	"endeixis/internal/fault"
)

// logBase is where the ledger is served in the open form of tlog-tiles (c2sp.org/tlog-tiles), for
// clients that follow such logs.
const logBase = "/log/"

// immutable is what caches are told of a tile that never changes.
const immutable = "public, max-age=31536000, immutable"

// log answers for the checkpoint, and for tiles of hashes and of records. Records are for people
// who are signed in, and the rest too unless it is configured to be open.
func (a *API) log(c *gin.Context) {
	path := strings.TrimPrefix(c.Param("path"), "/")
	_, signedIn := principal(c.Request.Context())
	if !signedIn && (!a.OpenLog || strings.HasPrefix(path, "tile/entries/")) {
		w, _ := c.Request.Context().Value(whoKey{}).(who)
		a.write(c.Writer, c.Request, w.err)
		return
	}
	if path == "checkpoint" {
		signed, err := a.Records.Cosigned(c.Request.Context())
		if err != nil {
			a.write(c.Writer, c.Request, err)
			return
		}
		c.Data(http.StatusOK, "text/plain; charset=utf-8", []byte(signed))
		return
	}
	tile, err := torchwood.ParseTilePath(path)
	// No ledger has tiles above the seventh level: their hashes are over more than 2⁶³ records.
	if err != nil || tile.W < 1 || tile.L > 6 || tile.N > math.MaxInt64>>(8*(max(tile.L, 0)+1)) {
		a.write(
			c.Writer, c.Request,
			fault.New(fault.NotFound, fault.TileUnknown, "There is no such tile.").
				Advise("The paths are those of tlog-tiles, such as /log/checkpoint and /log/tile/0/000.p/7."),
		)
		return
	}
	data, err := a.tile(c, tile)
	if err != nil {
		a.write(c.Writer, c.Request, err)
		return
	}
	if tile.W == 1<<tile.H {
		c.Header("Cache-Control", immutable)
	}
	c.Data(http.StatusOK, "application/octet-stream", data)
}

// tile returns the content of a tile that lies within the tree.
func (a *API) tile(c *gin.Context, tile tlog.Tile) ([]byte, error) {
	ctx := c.Request.Context()
	checkpoint, _, err := a.Records.Sign(ctx)
	if err != nil {
		return nil, err
	}
	level, width := max(tile.L, 0), int64(1)<<tile.H
	if (tile.N*width+int64(tile.W))<<(tile.H*level) > checkpoint.Size {
		return nil, fault.New(
			fault.NotFound, fault.TileBeyond, "The ledger does not go that far: it has %d records.", checkpoint.Size,
		)
	}
	if tile.L >= 0 {
		return tlog.ReadTileData(tile, a.Records.Hashes(ctx))
	}
	bodies, err := a.Records.Texts(ctx, tile.N*width, tile.N*width+int64(tile.W))
	if err != nil {
		return nil, err
	}
	var out []byte
	for i, body := range bodies {
		if len(body) > math.MaxUint16 {
			return nil, fault.New(
				fault.Conflict, fault.RecordTooLong,
				"Record %d has more than 65,535 bytes, which a tile of entries cannot hold.", tile.N*width+int64(i),
			).
				Advise("Read the records one by one, from /api/v1/records.")
		}
		out = append(binary.BigEndian.AppendUint16(out, uint16(len(body))), body...)
	}
	return out, nil
}
