#include "serve/formats.h"

const bmb_format bmb_formats[] = {
    { ".mjpeg", "multipart/x-mixed-replace; boundary=" BMB_MULTIPART_BOUNDARY, "--" BMB_MULTIPART_BOUNDARY "\r\n",
      BMB_CODEC_JPEG, false, &bmb_framer_multipart },
    { ".jpg", "image/jpeg", "", BMB_CODEC_JPEG, true, &bmb_framer_still },
    { ".ts", "video/mp2t", "", BMB_CODEC_H264, false, &bmb_framer_ts },
};
const size_t bmb_format_count = sizeof bmb_formats / sizeof bmb_formats[0];
