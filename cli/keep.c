#include "settings.h"

#include <stdlib.h>
#include <string.h>

bool cli_settings_store(cli_device *d)
{
    cli_settings *s = d->layers;
    char *text = s->stores ? cli_layer_text(&s->kept) : NULL;
    if (text == NULL) return !s->stores;
    bmb_err err = d->port.storage.store(d->port.storage.ctx, CLI_LAYER_RECORD, text, strlen(text));
    free(text);
    if (err != BMB_OK) bmb_note(d->device, &(bmb_event){ .code = BMB_EVENT_SETTINGS_NOT_KEPT, .err = err });
    return err == BMB_OK;
}
