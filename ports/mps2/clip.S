/* The camera's pictures, in flash. */
    .section .clip, "a"
    .incbin "loco.mjpeg"
