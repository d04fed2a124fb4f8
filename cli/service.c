/* `bambino service`: the systemd unit that starts a configuration with the board. */
#include <errno.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli.h"

#define UNIT_FOLDER "/etc/systemd/system"

/* A word of ExecStart, quoted as systemd reads it. */
static void put_quoted(FILE *out, const char *text)
{
    fputc('"', out);
    for (; *text != '\0'; text++) {
        if (*text == '"' || *text == '\\') fputc('\\', out);
        if (*text == '%') fputc('%', out); /* its own sign for specifiers */
        if (*text == '$') fputc('$', out);
        fputc(*text, out);
    }
    fputc('"', out);
}

/* What a unit is made of. */
typedef struct unit_facts {
    char command[PATH_MAX], config[PATH_MAX];
    char secrets[PATH_MAX], certificate[PATH_MAX],
        key[PATH_MAX]; /* files that the service's user could not read, or "" */
    bool low_port;     /* one below 1024 */
    const char *user;  /* that it runs as; NULL: one of its own, which systemd makes */
} unit_facts;

/* Its owner gives it to the service's own user, and to nobody else. */
static void put_credential(FILE *out, const char *name, const char *path)
{
    if (path[0] == '\0') return;
    fprintf(out, "\nLoadCredential=%s:", name);
    for (const char *c = path; *c != '\0'; c++) fputs(*c == '%' ? "%%" : (const char[]){ *c, '\0' }, out);
}

static void write_unit(FILE *out, const unit_facts *u)
{
    fputs("[Unit]\n"
          "Description=Bambino: live video from this board's cameras\n"
          "# A camera may come later: its kind of device is made known before, or the rule below would not let it in.\n"
          "Wants=network-online.target modprobe@videodev.service\n"
          "After=network-online.target modprobe@videodev.service\n"
          "StartLimitIntervalSec=0\n\n"
          "[Service]\n"
          "Type=notify\n"
          "NotifyAccess=main\n"
          "ExecStart=",
          out);
    put_quoted(out, u->command);
    fputs(" run ", out);
    put_quoted(out, u->config);
    put_credential(out, CLI_CREDENTIAL, u->secrets);
    put_credential(out, CLI_CREDENTIAL_CERTIFICATE, u->certificate);
    put_credential(out, CLI_CREDENTIAL_KEY, u->key);
    fputs("\n"
          "# A camera that hangs, or the device itself: no sign of life for so long, and it is started again.\n"
          "WatchdogSec=20\n"
          "Restart=always\n"
          "RestartSec=2\n"
          "# Pauses grow from 2 s to 60 s where this systemd knows how (254 and later).\n"
          "RestartSteps=5\n"
          "RestartMaxDelaySec=60\n"
          "TimeoutStopSec=5\n\n",
          out);
    if (u->user != NULL)
        fprintf(out, "User=%s\n", u->user);
    else
        fputs("# A user of its own, which owns nothing but its state folder.\nDynamicUser=yes\n", out);
    fputs("StateDirectory=bambino\n"
          "SupplementaryGroups=video\n"
          "NoNewPrivileges=yes\n",
          out);
    const char *capability = u->low_port ? "CAP_NET_BIND_SERVICE" : ""; /* as 443 is */
    fprintf(out, "CapabilityBoundingSet=%s\nAmbientCapabilities=%s\n", capability, capability);
    fputs("ProtectSystem=strict\n"
          "ProtectHome=read-only\n"
          "PrivateTmp=yes\n"
          "ProtectKernelTunables=yes\n"
          "ProtectKernelModules=yes\n"
          "ProtectKernelLogs=yes\n"
          "ProtectControlGroups=yes\n"
          "ProtectClock=yes\n"
          "ProtectHostname=yes\n"
          "RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK\n"
          "RestrictNamespaces=yes\n"
          "RestrictRealtime=yes\n"
          "RestrictSUIDSGID=yes\n"
          "LockPersonality=yes\n"
          "MemoryDenyWriteExecute=yes\n"
          "SystemCallArchitectures=native\n"
          "SystemCallFilter=@system-service\n"
          "SystemCallFilter=~@privileged @resources\n"
          "SystemCallErrorNumber=EPERM\n"
          "ProtectProc=invisible\n"
          "ProcSubset=pid\n"
          "PrivateMounts=yes\n"
          "# Cameras, and nothing else; a camera program that needs more gets a DeviceAllow in an override.\n"
          "DevicePolicy=closed\n"
          "DeviceAllow=char-81 rw\n"
          "DeviceAllow=char-video4linux rw\n"
          "DeviceAllow=char-media rw\n"
          "DeviceAllow=char-dma_heap rw\n"
          "DeviceAllow=char-usb_device rw\n"
          "UMask=0077\n\n"
          "[Install]\n"
          "WantedBy=multi-user.target\n",
          out);
}

/* A line end in a path would begin a line of its own in the unit. */
static bool path_ok(const char *path)
{
    for (const char *c = path; *c != '\0'; c++)
        if ((unsigned char)*c < 0x20 || *c == 0x7F) return false;
    return true;
}

static bool unit_name_ok(const char *name)
{
    return strspn(name, "abcdefghijklmnopqrstuvwxyz0123456789-_") == strlen(name) && name[0] != '\0' &&
           strlen(name) < 40;
}

/* Runs systemctl where systemd is in charge; elsewhere tells what to do. */
static void systemctl(const char *arguments)
{
    char command[200];
    struct stat s;
    if (stat("/run/systemd/system", &s) != 0) {
        printf("systemd does not run here; there: systemctl %s\n", arguments);
        return;
    }
    snprintf(command, sizeof command, "systemctl %s", arguments);
    if (system(command) != 0) cli_error("`%s` failed; run it as root", command); /* nothing in it comes from outside */
}

static int install(const char *unit, const char *name, const unit_facts *u, bool root_given)
{
    char text[160];
    char *body = NULL;
    size_t size = 0;
    FILE *f = open_memstream(&body, &size);
    if (f != NULL) write_unit(f, u);
    bmb_err err = f != NULL && fclose(f) == 0 ? bmb_linux_write_whole(unit, body, size, true) : BMB_NO_MEMORY;
    free(body);
    if (err != BMB_OK)
        return cli_error("%s cannot be written: %s; run it as root, or with --root FOLDER", unit,
                         err == BMB_NOT_FOUND ? "there is no such folder" : bmb_err_text(err));
    printf("Wrote %s.\n", unit);
    if (root_given) return EXIT_OK;
    systemctl("daemon-reload");
    snprintf(text, sizeof text, "enable --now %s.service", name);
    systemctl(text);
    printf("Its log: journalctl -u %s\n", name);
    return EXIT_OK;
}

static int remove_unit(const char *unit, const char *name, bool root_given)
{
    char text[160];
    if (access(unit, F_OK) != 0) return cli_error("%s is not there: nothing to remove", unit);
    snprintf(text, sizeof text, "disable --now %s.service", name);
    if (!root_given) systemctl(text);
    if (remove(unit) != 0) return cli_error("%s cannot be removed: %s; run it as root", unit, strerror(errno));
    printf("Removed %s.\n", unit);
    if (!root_given) systemctl("daemon-reload");
    return EXIT_OK;
}

static int print_file(const char *path)
{
    FILE *f = fopen(path, "r");
    char line[512];
    if (f == NULL) return cli_error("%s is not there; `bambino service install CONFIG` writes it", path);
    printf("# %s\n", path);
    while (fgets(line, sizeof line, f) != NULL) fputs(line, stdout);
    fclose(f);
    return EXIT_OK;
}

#define STATE "/var/lib/bambino" /* StateDirectory */

static bool is_below(const char *path, const char *folder)
{
    size_t n = strlen(folder);
    return strncmp(path, folder, n) == 0 && (path[n] == '/' || path[n] == '\0');
}

/* What the unit hides from the device, or lets it not write to: it would start, and fail there. */
static void warn_of_path(const cli_config *c, const char *key, const char *path, bool written)
{
    char full[PATH_MAX];
    if (path[0] == '\0' || strstr(path, "://") != NULL || strcmp(path, "-") == 0) return;
    cli_beside(c, path, full, sizeof full);
    if (is_below(full, "/tmp") || is_below(full, "/var/tmp"))
        cli_error("warning: %s is %s, and a service has a /tmp of its own (PrivateTmp): put it elsewhere", key, full);
    else if (written && !is_below(full, STATE))
        cli_error("warning: %s is %s, and the service may write below " STATE
                  " alone (StateDirectory): set %s = " STATE,
                  key, full, key);
}

static void warn(const cli_config *c, const unit_facts *u)
{
    warn_of_path(c, "the configuration", u->config, false);
    warn_of_path(c, "this command", u->command, false);
    warn_of_path(c, "state", c->state, true);
    warn_of_path(c, "users", c->users, false);
    warn_of_path(c, "pages", c->pages, false);
    for (size_t i = 0; i < c->camera_count; i++) {
        warn_of_path(c, "clip", c->cameras[i].clip, false);
        warn_of_path(c, "input", c->cameras[i].input, false);
    }
}

/* The configuration must be good before it is made to start by itself. */
static bool judge(unit_facts *u)
{
    cli_config *c = calloc(1, sizeof *c);
    bool good = c != NULL && cli_config_read(u->config, c) && cli_secrets_read(c);
    const struct {
        const char *name;
        char *out;
    } files[] = { { good ? c->secrets : "", u->secrets },
                  { good ? c->certificate : "", u->certificate },
                  { good ? c->key : "", u->key } };
    for (size_t i = 0; good && i < sizeof files / sizeof files[0]; i++) {
        if (files[i].name[0] != '\0') cli_beside(c, files[i].name, files[i].out, PATH_MAX);
        good = path_ok(files[i].out);
        if (!good) cli_error("the path of %s has a control character in it; give it another name", files[i].name);
    }
    const bmb_addr *listeners[4 + CLI_TCP_MOST] = { good ? &c->http : NULL, good ? &c->rtsp : NULL,
                                                    good ? &c->https : NULL, good ? &c->rtsps : NULL };
    for (size_t i = 0; good && i < c->tcp_count; i++) listeners[4 + i] = &c->tcp[i].listen;
    for (size_t i = 0; i < 4 + CLI_TCP_MOST; i++)
        if (listeners[i] != NULL && listeners[i]->family != 0 && listeners[i]->port > 0 && listeners[i]->port < 1024)
            u->low_port = true;
    if (good) warn(c, u);
    free(c);
    return good;
}

/* The package's user: the state folder may be his already, and a folder that is mounted cannot be moved to where that
 * of a user is whom systemd makes. Read by hand, since a static program cannot ask the system. */
#define PACKAGE_USER "bambino"
static bool has_package_user(const char *root)
{
    char path[PATH_MAX], line[512];
    bool found = false;
    snprintf(path, sizeof path, "%s/etc/passwd", root != NULL ? root : "");
    FILE *f = fopen(path, "r");
    while (f != NULL && !found && fgets(line, sizeof line, f) != NULL)
        found = strncmp(line, PACKAGE_USER ":", sizeof PACKAGE_USER) == 0;
    if (f != NULL) fclose(f);
    return found;
}

int cli_service(int argc, const char **argv)
{
    char *root = NULL, *name = NULL, *user = NULL;
    const struct poptOption options[] = {
        { "name", '\0', POPT_ARG_STRING, &name, 0, "of the unit; else bambino", "NAME" },
        { "root", '\0', POPT_ARG_STRING, &root, 0, "write below this folder, for an image; nothing is started",
          "FOLDER" },
        { "user", '\0', POPT_ARG_STRING, &user, 0,
          "it runs as this one, which there is; else as bambino, where a package made it, or as one of its own",
          "NAME" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[2] = { NULL, NULL };
    char unit[PATH_MAX];
    static unit_facts u;
    bool help = false;
    if (!cli_options(argc, argv, options, "service write|install|remove|show [CONFIG]", rest, 2, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    static const char *const verbs[] = { "write", "install", "remove", "show" };
    const char *verb = rest[0] != NULL ? rest[0] : "", *called = name != NULL ? name : "bambino";
    bool needs = strcmp(verb, "write") == 0 || strcmp(verb, "install") == 0;
    ssize_t n = readlink("/proc/self/exe", u.command, sizeof u.command - 1);
    u.command[n > 0 ? n : 0] = '\0';
    snprintf(unit, sizeof unit, "%s" UNIT_FOLDER "/%s.service", root != NULL ? root : "", called);
    int status = EXIT_USAGE;
    u.user = user != NULL ? user : strcmp(verb, "install") == 0 && has_package_user(root) ? PACKAGE_USER : NULL;
    if (!unit_name_ok(called)) {
        cli_error("--name %s: use a-z 0-9 - _", called);
    } else if (user != NULL && !unit_name_ok(user)) {
        cli_error("--user %s: use a-z 0-9 - _", user);
    } else if (needs && rest[1] == NULL) {
        cli_error("service %s needs the configuration to start: bambino service %s my.ini", verb, verb);
    } else if (needs && realpath(rest[1], u.config) == NULL) {
        cli_error("%s: the configuration cannot be read; check the path", rest[1]);
    } else if (needs && (!path_ok(u.config) || !path_ok(u.command))) {
        cli_error(
            "the path of the configuration, or of this command, has a control character in it; give it another name");
    } else if (needs && !judge(&u)) {
        status = EXIT_USAGE; /* told */
    } else if (strcmp(verb, "write") == 0) {
        write_unit(stdout, &u);
        status = EXIT_OK;
    } else if (strcmp(verb, "install") == 0) {
        status = install(unit, called, &u, root != NULL);
    } else if (strcmp(verb, "remove") == 0) {
        status = remove_unit(unit, called, root != NULL);
    } else if (strcmp(verb, "show") == 0) {
        status = print_file(unit);
    } else {
        const char *near = cli_nearest(verb, verbs, 4);
        cli_error("service %s: use write, install, remove or show%s%s%s", verb, near != NULL ? "; did you mean " : "",
                  near != NULL ? near : "", near != NULL ? "?" : "");
    }
    free(root);
    free(name);
    free(user);
    return status;
}
