/* The bambino command: what its files share. */
#ifndef BMB_CLI_H
#define BMB_CLI_H

#include <popt.h>
#include <stdio.h>

#include "bambino/bambino.h"
#include "bambino/board.h"
#include "bambino/intake.h"
#include "bambino/linux.h"
#include "bambino/sim.h"
#include "bambino/tls.h"
#include "bambino/v4l2.h"

enum { EXIT_OK = 0, EXIT_FAILED = 1, EXIT_USAGE = 2 };

#define CLI_FEEDS_MOST 64
#define CLI_CAMERAS_MOST 64
#define CLI_TCP_MOST 6 /* with HTTP and RTSP, plain and encrypted, the most outlets that a device has */
#define CLI_PUSHES_MOST 16
#define CLI_SETTINGS_MOST BMB_CONTROL_COUNT
#define CLI_TEXT_MAX 256

/* Where a camera's pictures come from. */
#define CLI_VIEW_UNSAID (-1)
typedef enum cli_source { CLI_DRAWN = 0, CLI_CLIP, CLI_DEVICE, CLI_PROGRAM, CLI_INPUT, CLI_UNSAID } cli_source;

/* One [camera NAME] section. */
typedef struct cli_camera {
    char name[BMB_NAME_MAX];
    int kind;        /* cli_source, known when the file was read */
    bool unsaid;     /* … though nothing says it: drawn where a board is simulated */
    int view, codec; /* bmb_sim_view, bmb_codec */
    char device[CLI_TEXT_MAX], video_input[33];
    char clip[CLI_TEXT_MAX];
    uint32_t clip_mfps;
    char program[CLI_TEXT_MAX], input[CLI_TEXT_MAX];
    int64_t shell;
    int format; /* bmb_intake_format */
    uint16_t raw_width, raw_height;
    uint32_t input_mfps;
    int line;
} cli_camera;

/* One [feed NAME] section. */
typedef struct cli_feed {
    char name[BMB_NAME_MAX];
    char title[64], camera[BMB_NAME_MAX], preview[BMB_NAME_MAX];
    int codec;              /* 0: the camera's first; else 1 + bmb_codec */
    uint16_t width, height; /* 0: what the camera offers first */
    uint32_t mfps;          /* 0: likewise */
    int storage;
    int64_t frame_max, reel; /* bytes; 0: computed */
    int64_t control[BMB_CONTROL_COUNT];
    bool control_set[BMB_CONTROL_COUNT];
    int64_t quality_least, quality_most;
    bmb_addr multicast;
    bool multicast_auto; /* a group is to be chosen */
    int64_t multicast_ttl, multicast_parity, multicast_always, multicast_open, open, camera_rests, paused;
    int64_t night_below, day_above, night_after, night_light;
    char step[BMB_NAME_MAX];
    int follow; /* bmb_follow */
    int64_t follow_least;
    bool changed; /* over the file: its codec may be another than the one that its controls were set for */
    int line;
} cli_feed;

/* One [tcp NAME] section, or one [push NAME] section. */
typedef struct cli_plain {
    char name[BMB_NAME_MAX];
    char feed[BMB_NAME_MAX]; /* "": by its name, or all */
    int format;              /* 0: chosen by codec; else 1 + bmb_stream_format */
    int64_t keep_all, controls, reserve_kbps;
    char hosts[CLI_TEXT_MAX];
    int64_t paused;
    int64_t secure;         /* tcp */
    char pin[CLI_TEXT_MAX]; /* push */
    bmb_addr listen;        /* tcp */
    char to[CLI_TEXT_MAX];  /* push */
    int64_t ttl;
    bmb_addr interface; /* family 0: the system chooses */
    char sdp[CLI_TEXT_MAX];
    int line;
} cli_plain;

/* A configuration file as it was read. */
typedef struct cli_config {
    char path[CLI_TEXT_MAX];
    char device_name[64];
    int64_t viewers, spare, request_buffer, rtp_packet, stall_ms, request_ms, idle_ms, session_ms, unsent_ms, memory,
        events, reserve;
    bmb_addr http, rtsp, https, rtsps; /* family 0: no such outlet */
    char http_plain[CLI_TEXT_MAX], rtsp_plain[CLI_TEXT_MAX], certificate[CLI_TEXT_MAX], key[CLI_TEXT_MAX];
    cli_camera cameras[CLI_CAMERAS_MOST];
    size_t camera_count;
    cli_feed feeds[CLI_FEEDS_MOST];
    size_t feed_count;
    cli_plain tcp[CLI_TCP_MOST];
    size_t tcp_count;
    cli_plain pushes[CLI_PUSHES_MOST];
    size_t push_count;
    int log; /* bmb_level */
    char figures[CLI_TEXT_MAX];
    char board[CLI_TEXT_MAX], wiring[CLI_TEXT_MAX], state[CLI_TEXT_MAX], secrets[CLI_TEXT_MAX];
    char ssid[33];
    char passphrase[64]; /* from the secrets file; never printed */
    char pages[CLI_TEXT_MAX];
    char users[CLI_TEXT_MAX], names[CLI_TEXT_MAX], origins[CLI_TEXT_MAX];
    int anybody; /* 0: watching as long as there are no users; else 1 + bmb_role */
    int64_t embed, host_viewers, repeats;
    int64_t uplink_kbps, cpu_percent, announce;
    int light_style; /* bmb_light_style */
    char light_file[CLI_TEXT_MAX];
} cli_config;

/* What was changed over a file: settings, and sections that are taken away. */
typedef struct cli_change {
    uint8_t section; /* as in keys.h */
    char name[BMB_NAME_MAX];
    char key[24];             /* "": the whole section is taken away */
    char value[CLI_TEXT_MAX]; /* "": the preset, whatever the file says */
} cli_change;

#define CLI_CHANGES_MOST 1024
typedef struct cli_layer {
    cli_change *rows; /* on the heap */
    size_t count;
} cli_layer;

/* Adds a change, or takes the place of the one before it. false: there is no memory, or there are too many. */
bool cli_layer_set(cli_layer *l, const cli_change *c);
void cli_layer_drop(cli_layer *l, size_t index);
/* What was changed about this section, if anything: its index, or SIZE_MAX. key NULL: whatever of it. */
size_t cli_layer_find(const cli_layer *l, uint8_t kind, const char *name, const char *key);
bool cli_layer_copy(cli_layer *to, const cli_layer *from);
void cli_layer_free(cli_layer *l);
/* As a text in the form of a configuration, which the reader takes back; on the heap. What it does not know is left out
 * and counted, since a newer or older version may have written it. */
char *cli_layer_text(const cli_layer *l);
size_t cli_layer_read(cli_layer *l, const char *text);

/* A reading with what was changed over it. why: gets the message instead of it being printed; or NULL. culprit: the
 * change that is at fault, its index; SIZE_MAX: none. */
bool cli_config_parse_over(FILE *file, const char *path, const cli_layer *over, char *why, size_t room, size_t *culprit,
                           cli_config *out);

/* Reads a file. On failure prints one message with file, line, value and remedy, and returns false. */
bool cli_config_read(const char *path, cli_config *out);
/* The same from an open file, which it closes; path is for messages. */
bool cli_config_parse(FILE *file, const char *path, cli_config *out);
/* The nearest of `count` names, for "did you mean"; NULL when none is near. */
const char *cli_nearest(const char *text, const char *const *names, size_t count);
/* The formats of [tcp] and of [push], "auto" first, then NULL; and what a choice means that is not "auto". */
const char *const *cli_format_names(bool push);
bmb_stream_format cli_format_chosen(bool push, int chosen);
/* Prints every key with its unit, range and meaning, in Markdown. */
void cli_config_reference(FILE *out);

#define CLI_NAMES_MOST 8
#define CLI_HOSTS_MOST 8
typedef struct cli_access cli_access;
typedef struct cli_secure cli_secure;
#define CLI_CERTIFICATE_NAMES 16

/* What goes on when the device is opened anew. */
typedef struct cli_carried {
    bmb_sign_in_copy sign_ins[BMB_SIGN_INS_MOST];
    size_t sign_in_count;
    struct cli_users *users; /* that were read last; NULL: none were */
} cli_carried;

/* Everything that runs: port, cameras and, once opened, the device. */
typedef struct cli_device {
    cli_config file;
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    bmb_intake *intake; /* NULL: no camera is a stream of bytes */
    bmb_v4l2 *v4l2;     /* NULL: no camera is the kernel's */
    bmb_joined joined;
    bool invented;                        /* the configuration is what a file would say that is not there */
    bmb_err camera_err[CLI_CAMERAS_MOST]; /* of file.cameras: BMB_OK, or why it is missing */
    bmb_config config;
    bmb_feed_config feeds[CLI_FEEDS_MOST];
    bmb_setting settings[CLI_FEEDS_MOST][CLI_SETTINGS_MOST];
    bmb_outlet_config outlets[4 + CLI_TCP_MOST];
    bmb_push_config pushes[CLI_PUSHES_MOST];
    bool described[CLI_PUSHES_MOST]; /* its session description is written */
    bmb_board board_data;
    bmb_board_run *board; /* NULL: no simulated board */
    const char *faults;   /* of the board, as given with --fault; or NULL */
    bool has_board;       /* board_data is filled in */
    bool console_off;     /* the board says nothing */
    bool quiet;           /* preparing says nothing about destinations */
    bool tolerant;        /* a feed whose camera is missing is not served, with a warning, instead of failing */
    bmb_budget budget;
    void *memory;
    bmb_device *device;
    int light_fd, light_lit; /* -1: none */
    bool told;               /* the addresses were printed */
    bool again;              /* it is to be opened anew */
    cli_access *access;
    cli_carried *carried; /* NULL: it is not opened anew */
    bmb_service service;
    struct cli_settings *layers; /* what was changed over the file; NULL: it is read once, and nothing is changed */
    cli_secure *secure;          /* NULL: nothing is encrypted */
    bmb_port under;              /* … or the port below */
    struct cli_figures *figures; /* what was measured on the board; or NULL */
    uint8_t pins[CLI_PUSHES_MOST][32];
    bmb_addr hosts[CLI_TCP_MOST][CLI_HOSTS_MOST];
} cli_device;

/* Reads the file of users, and fills in who may do what: where there should be users and none can be read, nobody gets
 * in. Prints a message and returns false where memory is short. tend looks at
 * the file from time to time, and returns when it wants to do so again, at the latest `next`. */
bool cli_access_open(cli_device *d);
uint64_t cli_access_tend(cli_device *d, uint64_t next);
/* Sign-ins, and who may: before the end, and after the next opening. */
void cli_access_leave(cli_device *d);
void cli_access_resume(cli_device *d);
void cli_carried_forget(cli_carried *c);
void cli_access_say(cli_device *d);
void cli_access_close(cli_device *d);
/* The outlets of HTTP and RTSP. Prints a message and returns false on failure, as the next one does. */
bool cli_prepare_web(cli_device *d);
/* Lays encryption over the port where something is to be encrypted; once all outlets and pushes are known. */
bool cli_secure_open(cli_device *d);
const char *cli_secure_trouble(const cli_device *d); /* why it failed; or NULL */
uint64_t cli_secure_tend(cli_device *d, uint64_t next);
void cli_secure_say(const cli_device *d);
void cli_secure_close(cli_device *d);
/* Names of files that a service manager hands over, which its user could not read. */
#define CLI_CREDENTIAL "bambino-secrets"
#define CLI_CREDENTIAL_CERTIFICATE "bambino-certificate"
#define CLI_CREDENTIAL_KEY "bambino-key"
/* Reads the secrets file that the configuration names, or the service manager's copy of it. Prints a message and
 * returns false on failure. */
bool cli_secrets_read(cli_config *c);
/* The path of a file that a configuration names, relative to it. */
void cli_beside(const cli_config *file, const char *name, char *out, size_t room);
/* Loads the board description that the configuration names; true when it names none. */
bool cli_board_load(cli_device *d);
/* Stands the board between port and device, with its faults. */
bool cli_board_attach(cli_device *d);
/* Creates the port and the cameras that are there. Prints a message and returns false on failure. */
bool cli_attach(cli_device *d);
/* Creates the cameras of this machine that the configuration has, and joins them with those that are there already. */
bool cli_attach_devices(cli_device *d);
/* Creates the cameras that are programs, pipes, files or sockets, and joins them likewise. */
bool cli_attach_intakes(cli_device *d);
bool cli_is_intake(const cli_device *d, const char *name);
/* The camera of this machine that stands under this name; SIZE_MAX: it is none. */
size_t cli_device_number(const cli_device *d, const char *name);
/* Says why no camera of this machine can be used: that there is none, and what else could be done; or for each that
 * this user may not use, what to do. */
int cli_no_camera(const char *otherwise);
/* What a file would say that serves the cameras of this machine; false: there is none. */
bool cli_invent_config(cli_config *out, char *text, size_t room);
/* The file's; without a path those of this machine's cameras (*invented), or the demo's, with a word about it. */
bool cli_config_or_invented(const char *path, cli_config *out, bool *invented);
/* What the driver says about a camera that failed, or a general sentence. */
const char *cli_trouble(const cli_device *d, size_t index, bmb_err err);
/* A still from a device that runs with this configuration on this machine, and so has the camera: from the heap.
 * width 0: in the feed's size. BMB_NOT_FOUND: no feed of it shows the camera, or nothing listens. */
bmb_err cli_fetch_running(const cli_device *d, const char *camera, uint16_t width, uint16_t height, uint8_t **out,
                          size_t *size);
/* The message for a camera that is missing, after its name. */
const char *cli_missing_text(const cli_device *d, size_t camera, char *out, size_t room);
/* Fills in config from file; every camera must be there. */
bool cli_prepare(cli_device *d);
/* Limits that may change while the device runs. */
void cli_limits_of(const cli_config *f, bmb_config *c);
/* … of that, the rows of feeds, outlets and pushes. */
bool cli_prepare_rows(cli_device *d);
/* The place of a feed in the device; SIZE_MAX: it has none. */
size_t cli_place_of(const cli_device *d, const char *feed);
/* Settings changed: the feeds of accounts, what anybody may, and names are other ones. */
void cli_access_refresh(cli_device *d);
/* Messages go into this text until it is ended with NULL; a line each. */
void cli_capture(char *text, size_t room);
void cli_print_addresses(cli_device *d);
/* Runs until Ctrl-C, or for so many seconds where that is more than 0. */
void cli_serve(cli_device *d, double seconds);
/* Fills in where a push goes. Prints a message and returns false when the address cannot be right; prints a warning
 * when it is likely to be wrong (judge: look for that, too). `where` stands before each message. */
bool cli_destination(const char *where, const char *text, bool judge, bmb_push_config *out);
/* Fills in the plain outlets and pushes; called by cli_prepare. */
bool cli_prepare_plain(cli_device *d);
/* Writes the session descriptions that pushes ask for, as soon as they are known. */
void cli_write_descriptions(cli_device *d);
/* Flash of an image for a microcontroller, bytes: the core, http-parser and cJSON, the page, and about so much for
 * lwIP, the C library, console and drivers. */
typedef struct cli_flash {
    size_t core, libraries, page, system, total;
} cli_flash;
/* For the configuration as prepared. */
cli_flash cli_flash_of(const cli_device *d);
/* What a configuration needs and what there is. */
typedef struct cli_plan {
    bmb_budget ram;
    size_t ram_have;           /* SIZE_MAX: not bounded */
    double net_kbps, net_have; /* 0: not known */
    double cpu, cpu_have;      /* per cent */
    double cpu_encoding;       /* of that, where it was measured */
    cli_flash flash;
    size_t flash_have; /* 0: the board does not say; a program is a file there */
    bool possible;     /* every value is within its range */
    bool fits_ram, fits_net, fits_cpu, fits_flash;
} cli_plan;
/* Reads the figures that `asked`, or else the configuration, names. Prints a message and returns false on failure. */
bool cli_figures_load(cli_device *d, const char *asked);
/* Of the configuration as prepared. */
cli_plan cli_plan_of(const cli_device *d);
/* One line for each part that does not fit, before starting. */
void cli_plan_warn(const cli_device *d);
/* The bit rate that is expected of a feed, kbit/s. */
double cli_feed_kbps(const cli_device *d, const bmb_feed_config *feed);
/* Fetches a settled frame from a camera that nobody uses; the caller releases it and stops the camera. */
bmb_err cli_fetch_still(cli_device *d, size_t camera, const bmb_mode *mode, bmb_camera_frame *out);
bool cli_find_camera(const cli_device *d, const char *name, size_t *index, bmb_camera_info *info);
/* The mode for stills: "WIDTHxHEIGHT", or the camera's largest for NULL, at the size's fastest rate up to mfps_most.
 * H.264 only where it is allowed and the camera has nothing else. Prints a message and returns false on failure. */
bool cli_still_mode(const cli_device *d, const bmb_camera_info *info, const char *size, uint32_t mfps_most,
                    bool allows_h264, bmb_mode *out);
/* The first of the camera's list with that codec; NULL: there is none. */
const bmb_mode_row *cli_first_mode(const bmb_camera_info *info, bmb_codec codec);
/* The mode of the camera's list that is nearest to what was asked in this codec: in size first, then in rate. */
const bmb_mode_row *cli_nearest_mode(const bmb_camera_info *info, const bmb_mode *asked);
/* Sets "CONTROL=VALUE,…" as given with --set; NULL: nothing. Prints a message and returns false on failure. */
bool cli_set_controls(cli_device *d, size_t index, const bmb_camera_info *info, const char *text);
/* Sets the controls that the configuration gives to this camera. */
void cli_apply_controls(cli_device *d, size_t index, const char *name);
int cli_preview(cli_device *d, const char *camera, const char *out);
/* The status light; tend returns when it wants to look again, at the latest `next`. */
bool cli_light_open(cli_device *d);
uint64_t cli_light_tend(cli_device *d, uint64_t next);
void cli_light_close(cli_device *d);
/* Announcing by DNS-SD what others can reach. Prints a message and returns false where this build cannot. */
bool cli_presence_open(const cli_device *d);
void cli_presence_tend(cli_device *d);
bool cli_announce_there(void);
/* Prints what is wrong with a configuration, and what could be instead. Returns false. */
bool cli_fault(const cli_device *d, const bmb_fault *why);
/* Hands over the memory and opens. */
bool cli_open(cli_device *d);
void cli_close(cli_device *d);
/* true once Ctrl-C or SIGTERM came. */
bool cli_interrupted(void);
void cli_catch_signals(bmb_port *port);

/* "640x480 at 15/s, JPEG" */
const char *cli_mode_text(const bmb_mode *mode, char *out, size_t room);
/* Finds demo/FILE beside the command, installed or in its build tree. */
bool cli_demo_file(const char *file, char *out, size_t room);

/* Options of one command, parsed. On bad use prints a message and returns false; *help is set when --help was given and
 * printed. The arguments that are no options are left in `rest`, at most rest_most of them. */
bool cli_options(int argc, const char **argv, const struct poptOption *options, const char *usage, const char **rest,
                 int rest_most, bool *help);
/* From now on commands do not read their options but hand them here, and end; NULL: no longer. */
typedef void cli_describe_fn(void *ctx, const struct poptOption *options, const char *usage);
void cli_describe(cli_describe_fn *fn, void *ctx);
/* A line on standard output, for commands that serve: whoever reads it slowly, or not at all, must not hold that up. */
void cli_say(const char *fmt, ...) __attribute__((format(printf, 1, 2)));
void cli_last_words(void); /* lines that still wait are written, for half a second */
int cli_error(const char *fmt, ...) __attribute__((format(printf, 1, 2)));

typedef struct cli_command {
    const char *name;
    int (*run)(int argc, const char **argv);
    const char *help; /* a line */
    const char *more; /* … and a paragraph, for its manual page */
} cli_command;
/* Manual pages are about these. */
void cli_manual_knows(const cli_command *list, size_t count);

/* The version, and which parts this build has. */
void cli_print_version(void);

int cli_run(int argc, const char **argv);
int cli_demo(int argc, const char **argv);
int cli_cameras(int argc, const char **argv);
int cli_photo(int argc, const char **argv);
int cli_measure(int argc, const char **argv);
int cli_budget(int argc, const char **argv);
int cli_lapse(int argc, const char **argv);
int cli_service(int argc, const char **argv);
int cli_boards(int argc, const char **argv);
int cli_send(int argc, const char **argv);
int cli_users_command(int argc, const char **argv);
int cli_keys(int argc, const char **argv);
int cli_settings_command(int argc, const char **argv);
int cli_check(int argc, const char **argv);
int cli_manual(int argc, const char **argv);
int cli_completion(int argc, const char **argv);

#endif
