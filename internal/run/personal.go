package run

import (
	"context"
	"fmt"
	"io"
	"path"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/source"
)

// personalStep puts the person's own settings in.
var personalStep = step{done: doneBefore, do: personal}

// personalFolder is where a person's own settings are put, in the home folder.
const personalFolder = ".personal"

// installPersonal runs the settings' own script; without one, files that begin with a dot
// are linked into the home folder, and nothing that is there is overwritten.
const installPersonal = `cd "$HOME/` + personalFolder + `" || exit 1
for f in install.sh install setup.sh setup; do
  if [ -f "./$f" ] && [ -x "./$f" ]; then echo "running $f"; exec "./$f"; fi
done
for f in .[!.]*; do
  case $f in .git|.gitignore|.gitmodules|.github) continue;; esac
  if [ -e "$HOME/$f" ]; then echo "$f is there already and stays"; else ln -s "$PWD/$f" "$HOME/$f" && echo "linked $f"; fi
done`

// personal puts the person's own settings in, as the last step. It may fail without the
// workspace failing: what went wrong is told, and the workspace is ready.
func personal(ctx context.Context, c *execution, s *records.Step) (bool, any, error) {
	_, _, err := noted((*execution).putPersonal)(ctx, c, s)
	if err != nil && ctx.Err() == nil && !records.Unavailable(err) {
		c.log.say("your settings were not put in: " + err.Error())
		if remedy := fault.Remedy(err); remedy != "" {
			c.log.say(fault.ToDo(remedy))
		}
		return false, nil, nil
	}
	return false, nil, err
}

func (c *execution) putPersonal(ctx context.Context, _ *records.Step) error {
	account, err := c.o.Store.AccountByID(ctx, c.workspace.Account)
	if err != nil {
		return err
	}
	address, err := source.Parse(account.Personal)
	if err != nil {
		return err
	}
	checkout, err := c.Fetch(ctx, c.workspace.Account, source.Want{Address: address, Say: c.log.say})
	if err != nil {
		return err
	}
	link, err := c.joined(ctx, c.workspace.SiteID())
	if err != nil {
		return err
	}
	var home bounded
	if err := link.Task(ctx, wire.TaskRequest{Key: fmt.Sprintf("run-%d/home", c.run.ID), Shell: `printf %s "$HOME"`}, &home); err != nil {
		return fmt.Errorf("find the home folder: %w", err)
	}
	r, w := io.Pipe()
	defer r.Close()
	go func() { w.CloseWithError(source.WriteArchive(ctx, checkout.Folder, w)) }()
	if err := link.Put(ctx, path.Join(home.String(), personalFolder), r); err != nil {
		return err
	}
	out := c.log.writer("")
	err = link.Task(ctx, wire.TaskRequest{Key: fmt.Sprintf("run-%d/personal", c.run.ID), Shell: installPersonal}, out)
	_ = out.(io.Closer).Close() // writes the last line, if it has no end
	return err
}
