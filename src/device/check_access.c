#include "device/check_access.h"

#include <string.h>

#include "device/contract.h"

static bool good_name(const bmb_account *a)
{
    size_t n = 0;
    for (; n < sizeof a->name && a->name[n] != '\0'; n++) {
        char c = a->name[n];
        bool ok = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '.' || c == '-' ||
                  c == '_';
        if (!ok) return false;
    }
    return n > 0 && n < sizeof a->name;
}

/* It stands in quotes, in heads and in JSON. */
static bool good_realm(const char *realm)
{
    size_t n = 0;
    for (; realm != NULL && realm[n] != '\0'; n++)
        if (realm[n] < 0x20 || realm[n] > 0x7E || realm[n] == '"' || realm[n] == '\\') return false;
    return n > 0 && n < 64;
}

bmb_err bmb_access_check(const bmb_access *access, const bmb_port *port, bmb_fault *fault)
{
    if (access == NULL) return BMB_OK;
    if (!good_realm(access->realm)) return bmb_blame(fault, BMB_BAD_ARG, "access", "realm", NULL, 0, 63);
    if (access->anybody > BMB_ROLE_ADJUST)
        return bmb_blame(fault, BMB_BAD_ARG, "access", "anybody", NULL, (int64_t)access->anybody, BMB_ROLE_ADJUST);
    if (access->account_count > BMB_ACCOUNTS_MOST)
        return bmb_blame(fault, BMB_BAD_ARG, "access", "accounts", NULL, (int64_t)access->account_count,
                         BMB_ACCOUNTS_MOST);
    if (port->hash == NULL) return bmb_blame(fault, BMB_UNSUPPORTED, "port", "hash", "accounts", 0, 0);
    for (size_t i = 0; i < access->account_count; i++) {
        const bmb_account *a = &access->accounts[i];
        if (!good_name(a)) return bmb_blame(fault, BMB_BAD_ARG, "access", "name", NULL, (int64_t)i, 0);
        if (a->role < BMB_ROLE_WATCH || a->role > BMB_ROLE_ADMINISTER)
            return bmb_blame(fault, BMB_BAD_ARG, "access", "role", a->name, (int64_t)a->role, BMB_ROLE_ADMINISTER);
        for (size_t k = 0; k < i; k++)
            if (strcmp(access->accounts[k].name, a->name) == 0)
                return bmb_blame(fault, BMB_IN_USE, "access", "name", a->name, 0, 0);
    }
    return BMB_OK;
}
