/* In place of TLS, where its library is not there in the form that is needed. */
#include "bambino/tls.h"

bool bmb_tls_there(void)
{
    return false;
}

bmb_err bmb_tls_lay_over(bmb_tls *tls, const bmb_tls_config *config, bmb_port *out)
{
    *tls = (bmb_tls){ .config = *config, .trouble = "this library was built without TLS" };
    *out = *config->under;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_tls_use(bmb_tls *tls, const char *certificate, const char *key)
{
    (void)tls;
    (void)certificate;
    (void)key;
    return BMB_UNSUPPORTED;
}

bmb_err bmb_tls_names_change(bmb_tls *tls, const char *const *names, size_t name_count, const bmb_addr *addresses,
                             size_t address_count)
{
    (void)tls;
    (void)names;
    (void)name_count;
    (void)addresses;
    (void)address_count;
    return BMB_UNSUPPORTED;
}

void bmb_tls_figures_get(const bmb_tls *tls, bmb_tls_figures *out)
{
    (void)tls;
    *out = (bmb_tls_figures){ 0 };
}
