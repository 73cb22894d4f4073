"""Block storage backend that keeps nothing: every operation succeeds, capacity
is counted, and a volume whose name or description contains 'to-fail'
goes to 'error' (so that a client's handling of it can be tested)."""
import time

from cinder import exception
from cinder import interface
from cinder.volume import driver


@interface.volumedriver
class NullDriver(driver.VolumeDriver):
    VERSION = '1.0'
    CI_WIKI_NAME = 'none'

    def do_setup(self, context):
        pass

    def check_for_setup_error(self):
        pass

    def create_volume(self, volume):
        if 'to-fail' in '%s %s' % (volume.display_name, volume.display_description):
            raise exception.VolumeBackendAPIException(data='asked to fail')
        time.sleep(1)  # so that 'creating' can be seen

    def clone_image(self, context, volume, image_location, image_meta, image_service):
        self.create_volume(volume)
        return {}, True

    def _nothing(self, *args, **kwargs):
        return None

    create_volume_from_snapshot = create_cloned_volume = _nothing
    delete_volume = create_snapshot = delete_snapshot = _nothing
    ensure_export = create_export = remove_export = _nothing
    extend_volume = terminate_connection = _nothing

    def initialize_connection(self, volume, connector):
        return {'driver_volume_type': 'fake', 'data': {'volume_id': volume.id,
                                                       'access_mode': 'rw'}}

    def _update_volume_stats(self):
        self._stats = {'volume_backend_name': self.configuration.safe_get('volume_backend_name'),
                       'vendor_name': 'none', 'driver_version': self.VERSION,
                       'storage_protocol': 'fake',
                       'pools': [{'pool_name': 'pool', 'total_capacity_gb': 100000,
                                  'free_capacity_gb': 100000, 'provisioned_capacity_gb': 0,
                                  'reserved_percentage': 0, 'QoS_support': False,
                                  'thin_provisioning_support': True,
                                  'max_over_subscription_ratio': 10,
                                  'multiattach': True}]}

    def get_volume_stats(self, refresh=False):
        self._update_volume_stats()
        return self._stats
