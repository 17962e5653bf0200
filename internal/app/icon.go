package app

import (
	"bytes"
	"fmt"
	"image"
	_ "image/gif"  // what an operator has
	_ "image/jpeg" // may be any of these
	"image/png"
	"path/filepath"

	"golang.org/x/image/draw"

	"initium/internal/core/dialect"
	"initium/internal/core/lineup"
	"initium/internal/core/survey"
	"initium/internal/core/text"
)

// Bounds of a picture that is scaled.
const (
	maxPicture = 32 << 20 // bytes
	maxSide    = 16_384   // pixels
)

// IconChange is the change that puts a picture in the place of a server's icon, scaled to the exact size that its
// dialect asks for, as a PNG. The error says where the dialect knows of no such icon, and what is no picture.
func (a *App) IconChange(server, file, source string) (c lineup.Change, err error) {
	s, err := a.Server(server)
	if err != nil {
		return c, err
	}
	full := file
	if !filepath.IsAbs(full) {
		full = filepath.Join(s.Record.Dir, file)
	}
	icon := s.iconAt(filepath.Clean(full))
	if icon == nil {
		return c, usage("the dialect %s knows of no icon %s, whose size a picture could be brought to ([[icon]])", s.Dialect.Name, text.Clean(file))
	}
	if source, err = filepath.Abs(source); err != nil {
		return c, err
	}
	data, err := survey.Open(theirs.Tree(), source, maxPicture)
	if err != nil {
		return c, fmt.Errorf("read %s: %w", text.Clean(source), err)
	}
	scaled, err := scale(data, icon.Width, icon.Height)
	if err != nil {
		return c, usage("%s: %w", text.Clean(filepath.Base(source)), err)
	}
	return lineup.Change{Op: lineup.OpWrite, File: filepath.Clean(full), Content: scaled}, nil
}

func (s *Server) iconAt(full string) *dialect.Icon {
	for i := range s.Dialect.Icons {
		if name, ok := s.Vars.Expand(s.Dialect.Icons[i].File); ok && filepath.Clean(name) == full {
			return &s.Dialect.Icons[i]
		}
	}
	return nil
}

// scale brings a picture to a size, in pixels.
func scale(data []byte, width, height int) ([]byte, error) {
	config, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("it is no PNG, JPEG or GIF (%w)", err)
	}
	if config.Width > maxSide || config.Height > maxSide || config.Width*config.Height > maxSide*maxSide/4 {
		return nil, fmt.Errorf("it is %d by %d pixels, more than is looked at", config.Width, config.Height)
	}
	picture, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("it is damaged (%w)", err)
	}
	out := image.NewNRGBA(image.Rect(0, 0, width, height))
	draw.CatmullRom.Scale(out, out.Bounds(), picture, picture.Bounds(), draw.Src, nil)
	var b bytes.Buffer
	if err := png.Encode(&b, out); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
