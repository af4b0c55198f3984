package engine

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"github.com/docker/docker/pkg/jsonmessage"
)

// progressEvery is how often a pull tells how far it is.
const progressEvery = time.Second

// pulling is how far a pull is. Its layers are fetched side by side and unpacked one behind
// the other; either may be what a person waits for.
type pulling struct {
	fetched, unpacked map[string]share // by layer
	begun, told       time.Time
	every             time.Duration
	tell              func(line string)
}

// share is so many bytes of so many.
type share struct{ done, all int64 }

// followPull reads the engine's messages to their end, and tells how it goes.
func followPull(stream io.Reader, every time.Duration, tell func(line string)) error {
	p := pulling{fetched: map[string]share{}, unpacked: map[string]share{}, begun: time.Now(), told: time.Now(), every: every, tell: tell}
	if err := followMessages(stream, p.take); err != nil {
		return err
	}
	p.end()
	return nil
}

// followMessages reads the engine's messages to their end; one that tells of an error ends them
// with it.
func followMessages(stream io.Reader, take func(jsonmessage.JSONMessage)) error {
	for d := json.NewDecoder(stream); ; {
		var m jsonmessage.JSONMessage
		if err := d.Decode(&m); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if m.Error != nil {
			return m.Error
		}
		take(m)
	}
}

func (p *pulling) take(m jsonmessage.JSONMessage) {
	switch known := p.fetched[m.ID]; {
	case m.Status == "Downloading" && m.Progress != nil:
		p.fetched[m.ID] = share{m.Progress.Current, max(m.Progress.Total, known.all)}
	case m.Status == "Download complete":
		p.fetched[m.ID] = share{known.all, known.all}
	case m.Status == "Extracting" && m.Progress != nil:
		p.fetched[m.ID] = share{known.all, known.all}
		p.unpacked[m.ID] = share{m.Progress.Current, m.Progress.Total}
	case m.Status == "Pull complete":
		p.unpacked[m.ID] = share{known.all, known.all}
	default:
		return
	}
	if time.Since(p.told) < p.every {
		return
	}
	p.told = time.Now()
	if line := p.line(); line != "" {
		p.tell(line)
	}
}

func (p *pulling) line() string {
	fetched, unpacked := sum(p.fetched), sum(p.unpacked)
	switch {
	case fetched.all == 0:
		return "" // of what comes nothing is known yet
	case fetched.done < fetched.all:
		return fmt.Sprintf("%.1f of %.1f MB, %.1f MB/s", mega(fetched.done), mega(fetched.all), mega(fetched.done)/time.Since(p.begun).Seconds())
	}
	return fmt.Sprintf("unpacked %.1f of %.1f MB", mega(min(unpacked.done, fetched.all)), mega(fetched.all))
}

func (p *pulling) end() {
	if all := sum(p.fetched).all; all > 0 {
		p.tell(fmt.Sprintf("%.1f MB fetched and unpacked in %.1f s", mega(all), time.Since(p.begun).Seconds()))
		return
	}
	p.tell("all its layers were there already")
}

func sum(layers map[string]share) (s share) {
	for _, l := range layers {
		s.done += l.done
		s.all += l.all
	}
	return s
}

func mega(n int64) float64 { return float64(n) / (1 << 20) }
