package measurer

import (
	"context"
	"io/fs"

	"endeixis/core/measure"
	"endeixis/core/verify"
	"endeixis/internal/wire"
)

// Drill measures what the drill of an item takes, of a file of folder that lies in no
// other.
func Drill(ctx context.Context, folder fs.FS, chore wire.DrillChore) (wire.DrillItem, error) {
	content, err := measure.Content(ctx, folder, &chore.Target, nil)
	if err != nil {
		return wire.DrillItem{}, err
	}
	defer content.Close()
	readings, err := verify.Alter(ctx, &chore.Target, content, chore.Target.Size, chore.Alterations)
	return wire.DrillItem{N: chore.N, Readings: readings}, err
}
