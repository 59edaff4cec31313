package mint

import (
	"bytes"
	"fmt"
	"image"
	"io"
)

// decodePPM reads a picture in the raw portable pixmap format ("P6"), which
// older emulators give.
func decodePPM(content []byte) (image.Image, error) {
	r := bytes.NewReader(content)
	var width, height, most int
	if _, err := fmt.Fscanf(r, "P6\n%d %d\n%d\n", &width, &height, &most); err != nil {
		return nil, err
	}
	if width < 1 || height < 1 || width > 1<<14 || height > 1<<14 || most != 255 || r.Len() < width*height*3 {
		return nil, fmt.Errorf("not a complete image of %dx%d", width, height)
	}
	pixels, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	picture := image.NewNRGBA(image.Rect(0, 0, width, height))
	for i := range width * height {
		copy(picture.Pix[i*4:], pixels[i*3:i*3+3])
		picture.Pix[i*4+3] = 0xff
	}
	return picture, nil
}
